"""What people call their samples: the drum, how hard it was struck, and which of several alternates, from a file's name."""

from __future__ import annotations

import re
from typing import NamedTuple

_SAYS: tuple[tuple[str, str], ...] = (
    ("hat_open", r"\bopen|hat (op|o)\b|\boh+\b|\bhho\b|\bohats?\b|\bhh op?\b"),
    ("hat_pedal", r"pedal|\bfoot (hi|hat|hh)|hat (ped|foot)|\bhhp\b|\bphh\b|\bhh (ped|foot|p)\b|\bchick\b"),
    ("hat_closed", r"\bclos(ed)?\b|hat|\bchh?\b|\bhhc?\b"),
    ("kick", r"kick|\bkik\b|\bkck\b|\bbd\b|bass ?drum|\bkd\b|\bbass dr"),
    ("rim", r"\brim|side ?stick|cross ?stick|\bx ?stick\b|\brs\b|\bss\b|\bstick\b"),
    ("clap", r"clap|\bclp\b|\bcp\b|\bsnap\b"),
    ("snare", r"snare|\bsnr\b|\bsn\b|\bsd\b|\bsnar\b|\bghost\b"),
    ("tom_low", r"(low|lo|fl) ?tom|\btom ?(low|lo|l|3|4|f)\b|\bl ?t\b|\bft\b|floor"),
    ("tom_mid", r"mid ?tom|\btom ?(mid|m|2)\b|\bm ?t\b|\btoms?\b"),
    ("tom_high", r"(high|hi|rack) ?tom|\btom ?(high|hi|h|1|rack)\b|\bh ?t\b|\brack\b"),
    ("ride", r"\bride|\brd\b|\bride ?bell\b"),
    ("crash", r"crash|\bcrs?h?\b|cymbal|\bcym\b|splash|china"),
    ("shaker", r"shak|\bshk\b|cabasa|marac|tamb|egg"),
    ("perc", r"perc|conga|bongo|cowbell|\bcb\b|wood ?block|clave|timbale|agogo|triangle|\bblock\b"),
)
_ORDER = ("hat_pedal", "hat_open", "hat_closed", "tom_low", "tom_high", "tom_mid", "rim", "clap", "snare", "ride", "crash", "kick",
          "shaker", "perc")
_COMPILED = {drum: re.compile(pattern) for drum, pattern in _SAYS}
_FORCES = {"ppp": 1, "pp": 2, "ghost": 2, "soft": 2, "p": 3, "mp": 4, "med": 5, "medium": 5, "mf": 6, "f": 7, "hard": 8, "loud": 8,
           "ff": 8, "fff": 9}
_LEVEL = re.compile(r"\b(?:v|vel|velocity|lyr|layer|l) ?(\d{1,3})\b")
_TURN = re.compile(r"\b(?:rr|alt|rnd|take|t) ?(\d{1,2})\b")


class NameSays(NamedTuple):
    """What a name says: a drum, empty for none, how hard (0 for nothing said), and which of the alternates (0 for nothing said)."""

    drum: str
    force: int
    turn: int
    base: str


def said_by(name: str) -> NameSays:
    """Return what a file's name, without its ending, says of the sound in it; `base` is what alternates and forces have in common."""
    words = _words(name)
    level, turn = _LEVEL.search(words), _TURN.search(words)
    force = int(level[1]) if level else next((_FORCES[word] for word in reversed(words.split()) if word in _FORCES), 0)
    base = _TURN.sub("", _LEVEL.sub("", words))
    base = " ".join(word for word in base.split() if word not in _FORCES)
    drum = next((drum for drum in _ORDER if _COMPILED[drum].search(words)), "")
    return NameSays(drum, force, int(turn[1]) if turn else 0, base)


def _words(name: str) -> str:
    """Return a name as lower-case words: parted at signs, at capitals within a word, and between letters and numbers."""
    parted = re.sub(r"(?<=[a-z])(?=[A-Z])|(?<=[A-Z])(?=[A-Z][a-z])", " ", name)
    parted = re.sub(r"[^A-Za-z0-9]+", " ", parted)
    parted = re.sub(r"(?<=[A-Za-z])(?=\d)|(?<=\d)(?=[A-Za-z])", " ", parted)
    return " ".join(parted.lower().split())
