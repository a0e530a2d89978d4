"""Bring in: choose a sound, see its loop, settle its tempo."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QPainter, QPixmap
from PyQt6.QtWidgets import QHBoxLayout, QStackedWidget, QVBoxLayout, QWidget

from bompla.analysis.loop.passages import Bars, Proposal, bars_of, explained, proposals_of
from bompla.analysis.tempo.drift import Drift, drift_of
from bompla.app.bring_in.arriving import ArrivingPanel
from bompla.app.bring_in.invitation import Invitation
from bompla.app.bring_in.loop_panel import LoopPanel
from bompla.app.bring_in.overview import Overview
from bompla.app.bring_in.seam_view import SeamView
from bompla.app.bring_in.shelf_panel import ShelfPanel
from bompla.app.commands import tip
from bompla.app.project.session import Session
from bompla.app.project.tasks import Token
from bompla.app.sound.playback import Playback
from bompla.app.stage import Stage, WindowActions
from bompla.app.theme import theme
from bompla.app.time_scroll import TimeScroll
from bompla.app.ui.controls import Panel, button, combo, label, scrolling
from bompla.app.ui.raster import wave_pixmap
from bompla.model.cut_edits import move_ends, set_loop, set_seam_fade
from bompla.model.document import Document
from bompla.model.loop import Loop
from bompla.model.loop_edits import step_loop
from bompla.model.wording import in_bars
from bompla.render.seam import Seam, seam_mend, seam_of
from bompla.units import ms_to_samples

SEAM_HEARD_MS = 350.0
SEAM_TIMES = 6
NARROW, WIDE_LOOP_PANEL = 1040, 490
SCROLL_HEIGHT, AROUND_LOOP = 20, 0.12
"""How tall the file in small is, and how much of its length is shown around a loop that is zoomed to."""

FADES_MS = (0, 2, 5, 10, 20, 50)


class BringIn(Stage):
    """The first stage."""

    key = "bring-in"

    def __init__(self, session: Session, playback: Playback, actions: WindowActions) -> None:
        super().__init__(session, playback, actions)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(10)
        self.shelf = ShelfPanel(
            session, playback, open_file=self._open,
            add_file=lambda path: session.openings.open(path, add=True),
        )
        layout.addWidget(self.shelf)
        self._pages = QStackedWidget()
        layout.addWidget(self._pages, 1)
        self.invitation = Invitation(self._open, actions.choose_file)
        whole = QWidget()
        right = QVBoxLayout(whole)
        right.setContentsMargins(0, 0, 0, 0)
        right.setSpacing(10)
        self._pages.addWidget(self.invitation)
        self._pages.addWidget(whole)
        self.arriving = ArrivingPanel(playback)
        self._pages.addWidget(self.arriving)
        session.openings.arriving_changed.connect(self._show_page)
        right.addWidget(self._file_panel(), 4)
        below = QHBoxLayout()
        below.setSpacing(10)
        right.addLayout(below, 6)
        below.addWidget(self._seam_panel(), 1)
        self.loop = LoopPanel(session, playback, self.overview, read_as=self.read_as, go_on=lambda: actions.go_to("slice"))
        self._loop_area = scrolling(self.loop)
        self._loop_area.setMinimumWidth(WIDE_LOOP_PANEL)
        loop_side = QVBoxLayout()
        loop_side.setSpacing(5)
        loop_side.addWidget(self._loop_area, 1)
        loop_side.addWidget(self.loop.main)
        below.addLayout(loop_side, 1)
        self._looked_at: tuple[object, ...] | None = None
        self._suggested_in: tuple[object, ...] = ()
        session.requests.pictures_changed.connect(lambda: self._refresh(session.store.document))
        self._commands()
        self.connect_all()

    def state_line(self, document: Document | None) -> str:
        """Return how many bars the loop has."""
        if document is None:
            return "nothing yet"
        return in_bars(document.loop.length_beats, document.loop.meter)

    def picture(self) -> QWidget:
        """Return the picture that takes the keys."""
        return self.overview

    def refresh(self, document: Document) -> None:
        """Show the loop, its seam and its readings."""
        self._show_page()
        self.loop.refresh(document)
        clip = self.session.project.clip
        if clip is not None:
            seam = seam_of(document, clip)
            self.seam_line.setText(f"{seam.words}, {_step_words(seam)}")
            self.seam_line.setObjectName("good" if seam.well else "value")
            if (style := self.seam_line.style()) is not None:
                style.polish(self.seam_line)
            mend = seam_mend(document, clip, seam)
            self.seam_mend.setVisible(mend is not None)
            self.seam_mend.setText(mend.words[:1].upper() + mend.words[1:] if mend is not None else "")
        index = self.fade.findData(round(document.loop.fade_ms))
        self.fade.setCurrentIndex(max(0, index))
        self.shelf.show_current(document.source.path)
        self._look_at_bars(document)

    def _show_page(self) -> None:
        """Show what arrives, or the loop, or where there is neither the invitation."""
        sound = self.session.openings.arriving
        if sound is not None:
            self.arriving.show_sound(sound)
        self._pages.setCurrentIndex(2 if sound is not None else 0 if self.session.store.document is None else 1)

    def set_playhead(self, at_sample: float) -> None:
        """Show the playhead on the file."""
        self.overview.set_playhead(at_sample)

    def showEvent(self, event: object) -> None:  # noqa: N802  # Qt's name
        self.shelf.start()
        super().showEvent(event)

    def resizeEvent(self, event: object) -> None:  # noqa: N802  # Qt's name
        narrow = self.width() < NARROW
        self.loop.set_narrow(narrow)
        self._loop_area.setMinimumWidth(290 if narrow else WIDE_LOOP_PANEL)

    def _open(self, path: Path) -> None:
        """Open a loop; where the project has work that is not saved it is added to it, and nothing is asked."""
        project, document = self.session.project, self.session.store.document
        self.playback.previews.stop()
        there = next((n for n, sound in enumerate(project.sounds) if sound.history.document.source.path == str(path)), -1)
        if there >= 0:
            project.switch(there)
        elif document is not None and project.dirty:
            self.session.openings.open(path, add=True)
            self.session.hub.note(f"{document.title} stays in the project with its edits; {path.stem} is added to it (Ctrl+Tab goes on).")
        else:
            self.window_actions.open_file(path)

    def _file_panel(self) -> QWidget:
        panel = Panel()
        panel.body.setSpacing(2)
        self.overview = Overview(self.session)
        self.overview.sought.connect(self.playback.transport.seek)
        self.overview.bar_chosen.connect(self._take_bar)
        panel.body.addWidget(self.overview, 1)
        self.whole = TimeScroll(self.overview, self._small, height=SCROLL_HEIGHT)
        self.session.store.document_changed.connect(self.whole.redraw)
        theme().changed.connect(self.whole.redraw)
        panel.body.addWidget(self.whole)
        row = QHBoxLayout(self.overview)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(4)
        row.addStretch(1)
        for text, key, act, name in (
            ("−", "zoom_out", partial(self.overview.zoom, 1.25), "Zoom out"),
            ("+", "zoom_in", partial(self.overview.zoom, 0.8), "Zoom in"),
            ("Loop", "zoom_loop", self.zoom_to_loop, "Zoom to the loop"),
            ("All", "zoom_all", self.overview.show_all, "Show the whole file"),
        ):
            made = button(text, act, tip=tip(key), name=name)
            made.setObjectName("tiny")
            row.addWidget(made, 0, Qt.AlignmentFlag.AlignTop)
        return panel

    def _small(self, width: int, height: int, ratio: float) -> QPixmap | None:
        """Return the whole file's waveform in small."""
        document, summary = self.session.store.document, self.session.project.summary
        if document is None or summary is None:
            return None
        gain = summary.gain
        made = wave_pixmap(summary, 0, document.source.frames, width, height, theme().colour("dim", 0.75), ratio=ratio, gain=gain)
        painter, share = QPainter(made), width / max(1, document.source.frames)
        loop = document.loop
        painter.fillRect(QRectF(share * loop.start_sample, 0.0, max(2.0, share * loop.frames), height), theme().colour("paper", 0.35))
        painter.end()
        return made

    def zoom_to_loop(self) -> None:
        """Show the loop and a little around it."""
        document = self.session.store.document
        if document is not None:
            around = AROUND_LOOP * document.loop.frames
            self.overview.show_span(document.loop.start_sample - around, document.loop.end_sample + around)

    def _seam_panel(self) -> QWidget:
        panel = Panel("Seam")
        self.seam = SeamView(self.session)
        panel.body.addWidget(self.seam, 1)
        self.seam_line = label("", "good")
        self.seam_line.setWordWrap(True)
        self.seam_mend = button("", self.mend_seam, tip=tip("seam_mend"), small=True)
        self.seam_mend.setVisible(False)
        told = QHBoxLayout()
        told.addWidget(self.seam_line, 1)
        told.addWidget(self.seam_mend)
        panel.body.addLayout(told)
        row = QHBoxLayout()
        row.setSpacing(4)
        row.addWidget(button("Listen", self.hear_seam, tip=tip("seam_listen")))
        row.addWidget(label("crossfade", "dim"))
        self.fade = combo("Crossfade at the seam", [(f"{ms} ms" if ms else "none", ms) for ms in FADES_MS],
                          tip="How long the loop's end and what is before its start are blended at the seam")
        self.fade.setMinimumWidth(64)
        self.fade.activated.connect(self._blend)
        row.addWidget(self.fade)
        row.addStretch(1)
        row.addWidget(button("before", lambda: self._hear_excess(True), chip=True, tip="Play what comes before the loop"))
        row.addWidget(button("after", lambda: self._hear_excess(False), chip=True, tip="Play what comes after the loop"))
        panel.body.addLayout(row)
        return panel

    def mend_seam(self) -> None:
        """Mend the first of what the seam is told for."""
        document, clip = self.session.store.document, self.session.project.clip
        if document is None or clip is None:
            return
        mend = seam_mend(document, clip, seam_of(document, clip))
        seam = seam_of(document, clip)
        if mend is None:
            self.session.hub.note("There is nothing to mend at this seam." if seam.well else
                                  "No crossfade mends this seam; move an end of the loop to a quieter place.")
        else:
            self.session.store.edit(mend.words, lambda d: set_loop(d, mend.loop))

    def _blend(self, index: int) -> None:
        fade_ms = float(self.fade.itemData(index))
        self.session.store.edit("crossfade seam", lambda d: set_seam_fade(d, fade_ms))

    def _commands(self) -> None:
        self.command("zoom_loop", self.zoom_to_loop)
        self.command("seam_listen", self.hear_seam)
        self.command("seam_mend", self.mend_seam)
        self.command("tap", self.loop.tap_now)
        self.command("downbeat", self.loop.downbeat)
        self.command("proposal_next", self.loop.next_proposal)
        self.command("proposal_use", self.loop.use_heard)
        self.command("loop_half_bar", self.loop.half_a_bar)
        for key, by, bars in (("bar_back", -1, True), ("beat_back", -1, False), ("beat_on", 1, False), ("bar_on", 1, True)):
            self.command(f"loop_{key}", partial(self.loop.slide, by, whole_bars=bars))
        for way, name in ((-1, "back"), (1, "on")):
            self.command(f"loop_step_{name}", partial(self._step_loop, way))
        for side in ("start", "end"):
            for key, by_ms, steps in (("sample", 0.0, 0), ("ms", 1.0, 0), ("step", 0.0, 1)):
                for way in (-1, 1):
                    name = f"{side}_{key}_{'later' if way > 0 else 'earlier'}"
                    self.command(name, partial(self.nudge, side, way, by_ms, steps))

    def _step_loop(self, way: int) -> None:
        attacks = self.overview.snap == "attack"
        self.session.store.edit("slide loop", lambda d: step_loop(d, way, to_attacks=attacks))

    def nudge(self, side: str, way: int, by_ms: float, steps: int) -> None:
        """Move the loop's start or end by a sample, some milliseconds, or a sixteenth."""
        document = self.session.store.document
        if document is None:
            return
        loop = document.loop
        by = ms_to_samples(by_ms, document.source.sample_rate) or 1
        if steps:
            by = round(loop.beat_frames / 4.0)
        start = loop.start_sample + (way * by if side == "start" else 0)
        end = loop.end_sample + (way * by if side == "end" else 0)
        start, end = max(0, start), min(document.source.frames, end)
        if end - start >= 64:
            self.session.store.edit(f"nudge loop {side}", lambda d: move_ends(d, start, end))

    def hear_seam(self) -> None:
        """Play the loop's end and its start on end, a few times."""
        document, clip = self.session.store.document, self.session.project.clip
        if document is not None and clip is not None:
            self.playback.previews.play_seam(clip, document.loop, ms_to_samples(SEAM_HEARD_MS, clip.sample_rate), SEAM_TIMES)

    def _hear_excess(self, before: bool) -> None:
        document, clip = self.session.store.document, self.session.project.clip
        if document is None or clip is None:
            return
        start, end = (0, document.loop.start_sample) if before else (document.loop.end_sample, clip.frames)
        if end - start < 64:
            self.session.hub.note("There is nothing before the loop." if before else "There is nothing after the loop.")
            return
        self.playback.previews.play(clip, start, end, alone=True)

    def _look_at_bars(self, document: Document) -> None:
        """Look for clear bars on the thread, where the loop or the attacks are other ones than before."""
        seen = (document.source.content_hash, document.loop, document.threshold, document.proposed)
        if seen == self._looked_at or self.session.store.history is None or document is not self.session.store.history.document:
            return
        self._looked_at = seen
        suggested_in = (document.source.content_hash, document.threshold, document.proposed, round(document.bpm, 1),
                        document.loop.meter_name)
        if self._suggested_in[:1] != suggested_in[:1]:
            self._suggested_in = ()
            self.loop.show_proposals(())  # those of another sound are none of this

        def show(found: tuple[Bars, Drift, tuple[Proposal, ...]]) -> None:
            bars, drift, proposals = found
            if self._looked_at == seen:
                self.overview.show_bars(bars if len(bars.clarity) > 1 else None, drift)
                if suggested_in != self._suggested_in:
                    self._suggested_in = suggested_in  # else they keep their places, names and order, whatever the hand does
                    self.loop.show_proposals(proposals)

        self.session.threads.run(_clear_bars, document, done=show, failed=self.session.hub.trouble)

    def _take_bar(self, bar: int) -> None:
        """Let the loop begin with a bar that was clicked, with as many bars as it has."""
        document = self.session.store.document
        if document is None:
            return
        bars = bars_of(document)
        last = len(bars.clarity)
        if bar < last:
            end = min(last, bar + document.loop.whole_bars)
            start = min(bar, last - 1)
            before = document.loop
            loop = Loop.of_bars(int(bars.starts[start]), int(bars.starts[end]), end - start, before.meter_name, before.fade_ms)
            self.session.store.edit(f"loop from bar {bar + 1} of the file", lambda d: set_loop(d, loop))


def _clear_bars(document: Document, _token: Token) -> tuple[Bars, Drift, tuple[Proposal, ...]]:
    return bars_of(document), drift_of(document), explained(document, proposals_of(document))


def _step_words(seam: Seam) -> str:
    return f"click at the seam, {seam.jump_db:.0f}\u00a0dB".replace("-", "\u2212") if seam.steps else "no click"
