"""How far drums that sound together are pulled apart: `python benchmarks/separation.py`.

Two strikes of known kits are mixed; what is pulled out is compared with what went in. The gain is
in dB of signal to distortion over taking the mixture as it is.
"""

from __future__ import annotations

import numpy as np

from bompla.analysis.separate import pull_apart
from bompla.audio.clip import Clip
from corpus import RATE
from corpus.kits import GROUPS, font_bank, font_kits, synth_bank

PAIRS = (("kick", "hat_closed"), ("snare", "hat_closed"), ("kick", "hat_open"), ("kick", "ride"), ("snare", "kick"), ("kick", "crash"))
LEVELS = {"kick": 0.9, "snare": 0.7, "hat_closed": 0.28, "hat_open": 0.28, "ride": 0.25, "crash": 0.4}
SECONDS = 0.25


def sdr_db(known: np.ndarray, found: np.ndarray) -> float:
    return float(10.0 * np.log10((known**2).sum() / max(float(((known - found) ** 2).sum()), 1e-12)))


def main() -> None:
    rng = np.random.default_rng(3)
    banks = [font_bank(*kit) for kit in font_kits(GROUPS)] + [synth_bank(800_000 + n) for n in range(6)]
    print(f"{'mixture':<22}{'wanted':<12}{'as it is':>9}{'pulled out':>11}{'gain':>7}{'with an example':>17}")
    for pair in PAIRS:
        rows: dict[str, list[tuple[float, float, float]]] = {drum: [] for drum in pair}
        for bank in banks:
            for _ in range(2):
                parts = {}
                loud = int(rng.integers(4, 8))
                for drum in pair:
                    voice = bank.voices[drum][0][loud]
                    sound = np.zeros(round(SECONDS * RATE), np.float32)
                    sound[: min(len(voice), len(sound))] = voice[: len(sound)]
                    parts[drum] = LEVELS[drum] * rng.uniform(0.6, 1.2) * sound / max(float(np.abs(voice).max()), 1e-6)
                mixture = np.sum(list(parts.values()), axis=0)
                other = [bank.voices[drum][0][max(2, loud - 2)][: len(mixture)] for drum in pair]
                gap = np.zeros(4000, np.float32)
                long = Clip(np.concatenate([mixture, gap, *(np.concatenate([v, gap]) for v in other)]), RATE)
                starts = np.cumsum([len(mixture) + 4000, len(other[0]) + 4000])
                plain = pull_apart(Clip(mixture, RATE), 0, len(mixture), pair)
                helped = pull_apart(long, 0, len(mixture), pair, alone={d: [int(s)] for d, s in zip(pair, starts, strict=True)})
                for drum in pair:
                    rows[drum].append((sdr_db(parts[drum], mixture), sdr_db(parts[drum], plain[drum].samples[:, 0]),
                                       sdr_db(parts[drum], helped[drum].samples[:, 0])))
        for drum in pair:
            before, after, helped = np.median(np.array(rows[drum]), axis=0)
            print(f"{' + '.join(pair):<22}{drum:<12}{before:>9.1f}{after:>11.1f}{after - before:>7.1f}{helped - before:>17.1f}")


if __name__ == "__main__":
    main()
