"""Bring in: choose a sound, see its loop, settle its tempo."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from msgspec.structs import replace
from PyQt6.QtCore import QSize, Qt
from PyQt6.QtWidgets import QHBoxLayout, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from bompla.app.commands import tip
from bompla.app.playback import Playback
from bompla.app.session import Session
from bompla.app.stages.base import Stage
from bompla.app.theme import theme
from bompla.app.widgets.controls import Chips, Facts, MiniWave, Panel, button, label
from bompla.app.widgets.overview import Overview, SeamView, clock_of, seam_words
from bompla.audio.files import read_clip
from bompla.audio.summary import WaveSummary
from bompla.demo import loop_paths
from bompla.model.cut_edits import set_loop
from bompla.model.document import Document, Loop, TempoReading

SHOWN_READINGS = 3
WORTH_SHOWING = 0.03
SURE, LIKELY = 0.8, 0.5


class BringIn(Stage):
    """The first stage."""

    key, title = "bring-in", "Bring in"

    def __init__(self, session: Session, playback: Playback, *, choose_file: Callable[[], object], go_on: Callable[[], object]) -> None:
        super().__init__(session, playback)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(10)
        layout.addWidget(self._shelf(choose_file))
        right = QVBoxLayout()
        right.setSpacing(10)
        layout.addLayout(right, 1)
        right.addWidget(self._file_panel(), 5)
        below = QHBoxLayout()
        below.setSpacing(10)
        right.addLayout(below, 4)
        seam = Panel("Seam · the end meets the start")
        self.seam = SeamView(session)
        seam.body.addWidget(self.seam, 1)
        below.addWidget(seam, 2)
        below.addWidget(self._loop_panel(go_on), 1)
        self.connect_all()

    def state_line(self, document: Document | None) -> str:
        """Return how many bars the loop has."""
        if document is None:
            return "nothing yet"
        return "1 bar" if document.loop.bars == 1 else f"{document.loop.bars} bars"

    def picture(self) -> QWidget:
        """Return the picture that takes the keys."""
        return self.overview

    def refresh(self, document: Document) -> None:
        """Show the loop and its readings."""
        loop, rate = document.loop, document.source.sample_rate
        self.facts.set("starts", clock_of(loop.start_sample, rate))
        self.facts.set("ends", clock_of(loop.end_sample, rate))
        self.facts.set("bars", f"{loop.bars} in {loop.meter_name}")
        self.facts.set("tempo", f"{document.bpm:.2f} BPM, {_sureness(document)}")
        words, well = seam_words(document)
        self.seam_line.setText(words)
        self.seam_line.setObjectName("good" if well else "value")
        if (style := self.seam_line.style()) is not None:
            style.polish(self.seam_line)
        self.readings.offer(*reading_choices(document), tip="Read the same stretch as these bars")
        self.bars.offer([(n, str(n)) for n in _bar_choices(document)], loop.bars, tip="Keep the start and the tempo, and take so many bars")
        for row in range(self.list.count()):
            item = self.list.item(row)
            if item is not None and Path(item.data(Qt.ItemDataRole.UserRole)).name == document.source.name:
                self.list.setCurrentRow(row)

    def set_playhead(self, at_sample: float) -> None:
        """Show the playhead on the file."""
        self.overview.set_playhead(at_sample)

    def _shelf(self, choose_file: Callable[[], object]) -> QWidget:
        panel = Panel("Night Ferry loops")
        panel.setFixedWidth(240)
        self.list = QListWidget()
        self.list.setAccessibleName("Loops that ship with Bompla")
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.setResizeMode(QListWidget.ResizeMode.Adjust)
        self.list.itemActivated.connect(self._open_item)
        self.list.itemClicked.connect(self._open_item)
        panel.body.addWidget(self.list, 1)
        for path in loop_paths():
            self._add_row(path)
        panel.body.addWidget(button("Open another sound…", choose_file, tip=tip("open")))
        panel.body.addWidget(label("or drop a file on the window", "dim"))
        return panel

    def _add_row(self, path: Path) -> None:
        item = QListWidgetItem(self.list)
        item.setData(Qt.ItemDataRole.UserRole, str(path))
        item.setData(Qt.ItemDataRole.AccessibleTextRole, path.stem)
        row = QWidget()
        column = QVBoxLayout(row)
        column.setContentsMargins(4, 7, 4, 7)
        column.setSpacing(2)
        top = QHBoxLayout()
        top.addWidget(label(path.stem, "value"))
        top.addStretch(1)
        length = label("", "dim")
        top.addWidget(length)
        column.addLayout(top)
        wave = MiniWave(24)
        column.addWidget(wave)
        item.setSizeHint(QSize(0, 68))
        self.list.setItemWidget(item, row)

        def show(summary: WaveSummary) -> None:
            wave.show_part(summary, 0, summary.clip.frames, theme().colour("paper", 0.75))
            length.setText(f"{summary.clip.duration_s:.1f} s")

        self.session.threads.run(lambda: WaveSummary.of(read_clip(path)), show, self.session.hub.trouble)

    def _open_item(self, item: QListWidgetItem) -> None:
        path = Path(item.data(Qt.ItemDataRole.UserRole))
        document = self.session.document
        if document is None or document.source.path != str(path):
            self.window().open_path(path)  # type: ignore[union-attr]  # the main window asks about unsaved work

    def _file_panel(self) -> QWidget:
        panel = Panel()
        self.overview = Overview(self.session)
        self.overview.sought.connect(self.playback.seek)
        panel.body.addWidget(self.overview, 1)
        return panel

    def _loop_panel(self, go_on: Callable[[], object]) -> QWidget:
        panel = Panel("Loop")
        panel.setMinimumWidth(292)
        self.facts = Facts(("starts", "ends", "bars", "tempo"))
        panel.body.addWidget(self.facts)
        self.seam_line = label("", "good")
        panel.body.addWidget(self.seam_line)
        panel.body.addWidget(label("Read these bars as", "heading"))
        self.readings = Chips("Tempo readings", columns=2)
        self.readings.chosen.connect(self.read_as)
        panel.body.addWidget(self.readings)
        panel.body.addWidget(label("Take so many bars", "heading"))
        self.bars = Chips("Bars")
        self.bars.chosen.connect(self._take_bars)
        row = QHBoxLayout()
        row.addWidget(self.bars)
        row.addStretch(1)
        panel.body.addLayout(row)
        panel.body.addStretch(1)
        row = QHBoxLayout()
        row.addWidget(button("Slice this loop", go_on, primary=True, tip="Go on to the Slice stage (Ctrl+2)"))
        row.addStretch(1)
        panel.body.addLayout(row)
        return panel

    def _take_bars(self, bars: object) -> None:
        def change(document: Document) -> Document:
            loop = document.loop
            end = loop.start_sample + round(loop.frames / loop.bars * int(str(bars)))
            return set_loop(document, Loop(loop.start_sample, min(end, document.source.frames), int(str(bars)), loop.meter_name))

        self.session.edit(f"take {bars} bars", change)


def reading_choices(document: Document) -> tuple[list[tuple[object, str]], object]:
    """Return the tempo readings to offer for the loop as it stands, and the one that holds.

    Those the analysis found are taken over to the loop's present length; half and double are
    always among them.
    """
    loop = document.loop
    here = TempoReading(round(document.bpm, 4), loop.bars, loop.meter_name, 1.0)
    offered = [here]
    found = [
        replace(r, bpm=_bpm_of(document, r.bars, r.meter))
        for r in document.readings
        if r.score >= WORTH_SHOWING and _near_length(document, r)
    ]
    for bars in (2 * loop.bars, loop.bars // 2 if loop.bars % 2 == 0 else 0):
        if bars:
            found.append(TempoReading(_bpm_of(document, bars, loop.meter_name), bars, loop.meter_name, 0.0))
    for reading in found:
        if all((reading.bars, reading.meter) != (other.bars, other.meter) for other in offered):
            offered.append(reading)
    shown = offered[:SHOWN_READINGS]
    return [(reading, _words(reading, loop.meter_name)) for reading in shown], here


def _bpm_of(document: Document, bars: int, meter: str) -> float:
    return round(replace(document, loop=replace(document.loop, bars=bars, meter_name=meter)).bpm, 4)


def _near_length(document: Document, reading: TempoReading) -> bool:
    """Whether a reading of the analysis fills the loop as it stands."""
    return abs(_bpm_of(document, reading.bars, reading.meter) / reading.bpm - 1.0) < 0.02


def _words(reading: TempoReading, usual_meter: str) -> str:
    bars = "1 bar" if reading.bars == 1 else f"{reading.bars} bars"
    return f"{reading.bpm:.1f} · {bars}" + ("" if reading.meter == usual_meter else f" {reading.meter}")


def _bar_choices(document: Document) -> list[int]:
    bar = document.loop.frames / document.loop.bars
    room = (document.source.frames - document.loop.start_sample) / bar + 0.01
    return sorted({n for n in (1, 2, 4, 8) if n <= room} | {document.loop.bars})


def _sureness(document: Document) -> str:
    if document.tempo_confidence >= SURE:
        return "sure"
    return "likely" if document.tempo_confidence >= LIKELY else "please check"
