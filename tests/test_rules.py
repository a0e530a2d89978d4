"""Rules of the house that hold for all code: what may stand in it, and what every command has."""

from __future__ import annotations

import ast
import re
import subprocess
import sys
from pathlib import Path

import pytest

from bompla.app.commands import COMMANDS, EVERYWHERE, IN_BRING_IN, IN_GROOVE, IN_KIT, IN_SLICE, IN_STUDY
from bompla.app.theme import PALETTES

ROOT = Path(__file__).parents[1]
SOURCE = ROOT / "src" / "bompla"


def test_no_two_commands_of_a_place_share_a_key() -> None:
    for place in (IN_BRING_IN, IN_SLICE, IN_KIT, IN_GROOVE, IN_STUDY):
        keys = [command.shortcut for command in COMMANDS if command.where in (place, EVERYWHERE) and command.shortcut]
        doubled = {key for key in keys if keys.count(key) > 1}
        assert not doubled, f"{place}: {doubled}"


def test_every_command_is_known_by_one_name_and_says_what_it_does() -> None:
    assert len({command.key for command in COMMANDS}) == len(COMMANDS)
    assert all(command.label[0].isupper() and not command.label.endswith(".") for command in COMMANDS)


def test_the_window_is_up_before_what_it_does_not_need_at_once() -> None:
    """What brings these belongs on threads and in processes; the command line's own help needs no window, either."""
    heavy = {"scipy", "pedalboard", "python_stretch", "mido", "librosa", "matplotlib"}
    code = "import sys, {}; print(*sorted({{name.split('.')[0] for name in sys.modules}} & {!r}))"
    for module, unwanted in (("bompla.app.main", heavy), ("bompla.cli", heavy | {"PyQt6", "soundfile", "numpy", "msgspec"})):
        done = subprocess.run([sys.executable, "-c", code.format(module, unwanted)], capture_output=True, text=True, check=True)
        assert done.stdout.split() == [], module


@pytest.mark.parametrize("path", sorted((SOURCE / "app").rglob("*.py")), ids=lambda path: str(path.relative_to(SOURCE)))
def test_colours_come_from_the_theme(path: Path) -> None:
    """No colour is written in a widget: a name or a number of one would not follow night and day."""
    if path.name == "theme.py":
        return
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.Constant) and isinstance(node.value, str):
            text = node.value
            assert not (text.startswith("#") and len(text) in (4, 7, 9) and all(c in "0123456789abcdefABCDEF" for c in text[1:])), text
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == "QColor":
            assert not node.args, f"line {node.lineno}: a colour is made here"


@pytest.mark.parametrize("package", ["audio", "analysis", "model", "groove", "render", "formats", "engine", "export"])
def test_everything_public_in_the_core_says_what_it_is(package: str) -> None:
    for path in sorted((SOURCE / package).rglob("*.py")):
        tree = ast.parse(path.read_text(encoding="utf-8"))
        assert ast.get_docstring(tree), path
        classes = [node for node in tree.body if isinstance(node, ast.ClassDef)]
        for node in [*tree.body, *(inner for one in classes if not one.name.startswith("_") for inner in one.body)]:
            if isinstance(node, ast.FunctionDef | ast.ClassDef) and not node.name.startswith("_"):
                assert ast.get_docstring(node), f"{path.name}: {node.name}"


def test_retired_words_stay_out_of_the_interface_and_the_documents() -> None:
    """The glossary lists them; one word has one meaning, and it is the trade's where the trade has one."""
    glossary = (ROOT / "docs" / "glossary.md").read_text(encoding="utf-8")
    retired = re.findall(r"`([^`]+)`", glossary[glossary.index("## Retired") :])
    assert len(retired) > 20
    found: list[str] = []
    spoken = re.compile(r"\b(" + "|".join(re.escape(word) for word in retired) + r")\b")
    for path in sorted([*(SOURCE / "app").rglob("*.py"), *(SOURCE / "analysis" / "review").rglob("*.py")]):
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if isinstance(node, ast.Constant) and isinstance(node.value, str):
                found += [f"{path.name}:{node.lineno}: {word}" for word in spoken.findall(node.value.lower())]
    for path in (ROOT / "README.md", *(ROOT / "docs").rglob("*.md")):
        text = glossary[: glossary.index("## Retired")] if path.name == "glossary.md" else path.read_text(encoding="utf-8")
        if "notebook" not in path.name:  # what was tried, in its own words
            found += [f"{path.name}: {word}" for word in spoken.findall(text.lower())]
    assert not found, "\n".join(found)


def test_every_link_of_the_documents_leads_to_a_file() -> None:
    lost = []
    papers = [ROOT / name for name in ("README.md", "training/README.md", "benchmarks/corpus/README.md")]
    for path in (*papers, *(ROOT / "docs").rglob("*.md")):
        for target in re.findall(r"\]\(([^)#:]+)(?:#[^)]*)?\)", path.read_text(encoding="utf-8")):
            if not (path.parent / target).exists():
                lost.append(f"{path.name}: {target}")
    assert not lost, lost


def test_every_module_that_is_named_in_words_is_there() -> None:
    there = [path.relative_to(ROOT).as_posix() for folder in ("src", "tests", "benchmarks", "training", "docs") for path in
             (ROOT / folder).rglob("*.py")]
    papers = [*(ROOT / "docs").glob("*.md"), ROOT / "training" / "README.md", *(ROOT / "src").rglob("*.py")]
    named = {(path.name, name) for path in papers for name in re.findall(r"`([\w/.-]+\.py)", path.read_text(encoding="utf-8"))}
    assert len(named) > 50
    lost = [f"{where}: {name}" for where, name in sorted(named) if not any(f"/{one}".endswith(f"/{name}") for one in there)]
    assert not lost, lost


def brightness(hexed: str) -> float:
    parts = [int(hexed[n : n + 2], 16) / 255.0 for n in (1, 3, 5)]
    red, green, blue = (part / 12.92 if part <= 0.03928 else ((part + 0.055) / 1.055) ** 2.4 for part in parts)
    return 0.2126 * red + 0.7152 * green + 0.0722 * blue


def contrast(one: str, other: str) -> float:
    """Return the contrast of two colours (WCAG 2.1)."""
    low, high = sorted((brightness(one), brightness(other)))
    return (high + 0.05) / (low + 0.05)


@pytest.mark.parametrize("name", sorted(PALETTES))
def test_text_and_borders_are_told_from_every_ground(name: str) -> None:
    palette = PALETTES[name]
    for ground in (palette.ground, palette.panel, palette.raised, palette.sunk):
        for role in ("paper", "dim", "signal", "good", "focus", "drums", "snares", "hats", "cymbals", "extras"):
            assert contrast(getattr(palette, role), ground) >= 4.5, (role, ground)
        assert contrast(palette.edge, ground) >= 3.0, ground
    assert contrast(palette.on_signal, palette.signal) >= 4.5
    assert contrast(palette.ground, palette.paper) >= 7.0
