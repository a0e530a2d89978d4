"""Make the pictures of drums that pulling slices apart begins from: `python training/make_templates.py`.

The middle, in dB, over strikes of all groups of sounds, at all velocities.
"""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

import numpy as np

ROOT = Path(__file__).parents[1]
sys.path.insert(0, str(ROOT / "benchmarks"))

from bompla.analysis.separation.pull_apart import TEMPLATES_FILE, picture_of  # noqa: E402
from bompla.model.drums import DRUMS  # noqa: E402
from corpus.kits import LEARNED, font_bank, font_kits, synth_bank  # noqa: E402

SYNTH_KITS = 12


def main() -> None:
    """Gather the strikes and write their pictures."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--groups", default=",".join(LEARNED))
    groups = tuple(parser.parse_args().groups.split(","))
    banks = [font_bank(*kit) for kit in font_kits(groups)]
    if "synth" in groups:
        banks += [synth_bank(900_000 + n) for n in range(SYNTH_KITS)]
    arrays = {}
    for drum in DRUMS:
        levels = []
        for bank in banks:
            for alternative in bank.voices.get(drum, [])[:2]:
                for voice in alternative[2::2]:
                    picture = picture_of(voice)
                    levels.append(np.maximum(10.0 * np.log10(picture / picture.max()), -90.0))
        arrays[drum] = np.median(levels, axis=0).astype(np.float16)
    np.savez_compressed(ROOT / "src" / "bompla" / "analysis" / "separation" / TEMPLATES_FILE, **arrays)


if __name__ == "__main__":
    main()
