"""Study: what makes the groove work, and how near is what was made."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial
from typing import TYPE_CHECKING

from msgspec.structs import replace
from PyQt6.QtCore import QRect, Qt, QTimer
from PyQt6.QtGui import QFontMetrics, QPainter, QPaintEvent
from PyQt6.QtWidgets import QHBoxLayout, QListWidget, QPushButton, QVBoxLayout, QWidget

from bompla.app.commands import tip
from bompla.app.project.session import Session
from bompla.app.project.tasks import Newest, Threads, Token
from bompla.app.sound.playback import Playback
from bompla.app.stage import Stage, WindowActions
from bompla.app.study.pictures import BarsPicture, PaperPicture, StepPicture
from bompla.app.theme import theme
from bompla.app.ui.controls import Facts, Panel, button, clear_layout, scrolling
from bompla.errors import BomplaError
from bompla.export.engrave import Engraved
from bompla.groove.read import Fact, GrooveRead, read_groove
from bompla.model.detected_pattern import pattern_meter, pattern_of
from bompla.model.document import Document
from bompla.model.pattern_edits import usual_velocity
from bompla.model.wording import bar_and_beat, counted

if TYPE_CHECKING:  # it brings SciPy, which the window does without until something is studied
    from bompla.groove.compare import Compared, Difference

WAIT_MS = 120
MOST_LISTED = 60


@dataclass(frozen=True, eq=False)
class Studied:
    """What came of it: the groove read, compared with the original."""

    document: Document
    read: GrooveRead
    compared: Compared


def _study(document: Document, _token: Token) -> Studied:
    from bompla.groove.compare import compared, struck_in

    original = struck_in(replace(document, shown=-1))
    return Studied(document, read_groove(document), compared(original, struck_in(document), bpm=document.bpm))


def _engrave(document: Document, _token: Token) -> Engraved | str:
    from bompla.export.paper import on_paper
    from bompla.groove.score import score_of

    try:
        return on_paper(score_of(document))
    except BomplaError as error:
        return str(error)


class StudyStage(Stage):
    """The fifth stage."""

    key = "study"

    def __init__(self, session: Session, playback: Playback, actions: WindowActions) -> None:
        super().__init__(session, playback, actions)
        self._threads = Threads(self)
        self._newest = Newest()
        self._studied: Studied | None = None
        self._at = -1
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(WAIT_MS)
        self._timer.timeout.connect(self._ask)
        layout, left = self.columns()
        steps = Panel("Where each hit falls, and how hard · all bars over one")
        self.steps = StepPicture(session)
        self.steps.heard.connect(self._hear_pad)
        steps.body.addWidget(self.steps, 1)
        left.addWidget(steps, 3)
        row = QHBoxLayout()
        bars = Panel("Which bars are alike")
        self.bars = BarsPicture()
        self.bars.chosen.connect(self._hear_bar)
        bars.body.addWidget(self.bars, 1)
        row.addWidget(bars, 2)
        paper = Panel("On paper · click a bar to hear it")
        self.paper = PaperPicture()
        self.paper.chosen.connect(self._hear_bar)
        paper.body.addWidget(self.paper, 1)
        row.addWidget(paper, 5)
        left.addLayout(row, 2)
        right = QVBoxLayout()
        right.setSpacing(10)
        area = scrolling(self._words())
        area.setFixedWidth(330)
        right.addWidget(area, 3)
        right.addWidget(self._compared(), 2)
        layout.addLayout(right)
        session.project.opened.connect(self._forget)
        self.command("difference_next", partial(self.step, 1))
        self.command("difference_mend", self.mend)
        self.connect_all()

    def _words(self) -> QWidget:
        panel = Panel("In words · click a sentence to hear its hits")
        self.sentences = QVBoxLayout()
        self.sentences.setSpacing(1)
        panel.body.addLayout(self.sentences)
        self.all_hits = button("Hear all again", self.hear_all, tip="Play the whole pattern, all of it lit")
        panel.body.addWidget(self.all_hits, 0, Qt.AlignmentFlag.AlignLeft)
        panel.body.addStretch(1)
        return panel

    def _compared(self) -> QWidget:
        panel = Panel("This pattern against the original")
        panel.setFixedWidth(330)
        self.facts = Facts(("hits found", "timing", "loudness"))
        panel.body.addWidget(self.facts)
        self.list = QListWidget()
        self.list.setAccessibleName("Differences, the most heard first")
        self.list.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.list.currentRowChanged.connect(self._show_difference)
        panel.body.addWidget(self.list, 1)
        row = QHBoxLayout()
        row.addWidget(button("Previous", partial(self.step, -1), tip="The difference before"))
        row.addWidget(button("Next", partial(self.step, 1), tip=tip("difference_next")))
        self.mend_button = button("Mend", self.mend, tip=tip("difference_mend"))
        row.addWidget(self.mend_button)
        row.addStretch(1)
        panel.body.addLayout(row)
        return panel

    def picture(self) -> QWidget:
        """Return the list of differences: what takes the keys."""
        return self.list

    @property
    def busy(self) -> bool:
        """Whether something is being read."""
        return self._timer.isActive() or self._threads.busy

    @property
    def studied(self) -> Studied | None:
        """What was read last."""
        return self._studied

    def state_line(self, document: Document | None) -> str:
        """Return how many facts are said."""
        if document is None or self._studied is None:
            return ""
        return counted(len(self._studied.read.sentences()), "fact")

    def refresh(self, document: Document) -> None:
        """Read the groove anew, where it is another."""
        self.steps.update()
        if self._studied is None or self._studied.document is not document:
            self._timer.start()

    def set_playhead(self, at_sample: float) -> None:
        """Show where it plays, in all pictures."""
        document = self.session.store.document
        if document is None or not self.playback.transport.playing:
            return
        beat = float(document.beat_map.beat_at(self.playback.transport.pattern_sample()))
        per_bar = pattern_meter(document).beats_per_bar
        self.steps.show_beat(beat % per_bar)
        self.bars.show_bar(int(beat // per_bar))
        self.paper.show_bar(int(beat // per_bar))

    def close_all(self) -> None:
        """End all reading."""
        self._timer.stop()
        self._threads.close()

    def step(self, by: int) -> None:
        """Go to the next difference, or so many on, and hear it."""
        count = self.list.count()
        if count:
            self.list.setCurrentRow((self.list.currentRow() + by) % count)

    def mend(self) -> None:
        """Make the pattern like the original where the difference is that is shown."""
        from bompla.groove.mends import mended

        difference = self._difference()
        if difference is not None:
            self.session.store.edit(f"mend {difference.kind} {difference.drum.replace('_', ' ')}", lambda d: mended(d, difference))

    def hear_fact(self, fact: Fact) -> None:
        """Light the hits of a sentence and play them alone."""
        self.steps.light(fact.hit_ids)
        document = self.session.store.document
        if document is None or not fact.hit_ids:
            return
        chosen = frozenset(fact.hit_ids)
        pattern = pattern_of(document)
        shown = max(0, document.shown)
        only = replace(pattern, letter=pattern.letter or "A", hits=tuple(hit for hit in pattern.hits if hit.id in chosen))
        variations = tuple(only if n == shown else one for n, one in enumerate(document.variations or (only,)))
        self.playback.previews.play_pattern(replace(document, variations=variations, shown=shown), self.session.project.clip,
                                            self.session.project.borrowed)

    def hear_all(self) -> None:
        """Light everything, and play the pattern."""
        self.steps.light(())
        document = self.session.store.document
        if document is not None:
            self.playback.previews.play_pattern(document, self.session.project.clip, self.session.project.borrowed)

    def _hear_pad(self, pad_id: int) -> None:
        document = self.session.store.document
        if document is not None:
            self.playback.pads.strike(pad_id, usual_velocity(document, pad_id))

    def _hear_bar(self, bar: int) -> None:
        document, clip = self.session.store.document, self.session.project.clip
        if document is None or clip is None:
            return
        per_bar = pattern_meter(document).beats_per_bar
        start, end = (round(float(document.beat_map.sample_at(beat))) for beat in (bar * per_bar, (bar + 1) * per_bar))
        self.playback.previews.play(clip, start, end)

    def _ask(self) -> None:
        document = self.session.store.document
        if document is None or not self.isVisible():
            return
        self._newest.keep("read", self._threads.run(_study, document, done=self._take, failed=self.session.hub.trouble))
        self._newest.keep("paper", self._threads.run(_engrave, document, done=self._take_paper, failed=self.session.hub.trouble))

    def _take(self, studied: Studied) -> None:
        self._studied = studied
        self.bars.show_read(studied.read)
        clear_layout(self.sentences)
        for fact in studied.read.sentences():
            self.sentences.addWidget(self._sentence(fact))
        self._show_compared(studied)
        self.line_changed.emit()

    def _sentence(self, fact: Fact) -> QPushButton:
        made = _Sentence(fact, self)
        made.clicked.connect(lambda _=False: self.hear_fact(fact))
        return made

    def _take_paper(self, engraved: Engraved | str) -> None:
        if isinstance(engraved, str):
            self.session.hub.trouble(engraved)
        else:
            self.paper.show_paper(engraved)

    def _show_compared(self, studied: Studied) -> None:
        found = studied.compared
        self.facts.set("hits found", f"{found.found} of {found.of}")
        self.facts.set("timing", f"{found.timing_ms:.1f} ms apart as a rule")
        self.facts.set("loudness", f"{found.loudness_db:.1f} dB apart as a rule")
        self.list.blockSignals(True)
        self.list.clear()
        meter = pattern_meter(studied.document)
        for one in found.differences[:MOST_LISTED]:
            self.list.addItem(f"{bar_and_beat(max(0.0, one.at_beats), meter)}  {one.text}")
        self.list.blockSignals(False)
        self.mend_button.setEnabled(self.list.count() > 0)

    def _difference(self) -> Difference | None:
        row = self.list.currentRow()
        return self._studied.compared.differences[row] if self._studied is not None and row >= 0 else None

    def _show_difference(self, _row: int) -> None:
        """Light what differs, and play half a beat around it from the original."""
        difference, document = self._difference(), self.session.store.document
        if difference is None or document is None:
            return
        self.steps.light((difference.other.hit_id,) if difference.other is not None else (-1,))
        places = document.beat_map.samples_at([difference.at_beats - 0.5, difference.at_beats + 1.0]).tolist()
        start, end = (max(0, min(document.source.frames, round(place))) for place in places)
        if self.session.project.clip is not None:
            self.playback.previews.play(self.session.project.clip, start, end)

    def _forget(self) -> None:
        self._studied = None
        self.steps.light(())


class _Sentence(QPushButton):
    """A sentence as a button: pointed at, it lights its hits; clicked, it plays them."""

    def __init__(self, fact: Fact, stage: StudyStage) -> None:
        super().__init__()
        self._fact, self._stage = fact, stage
        self._text = fact.text.replace(" %", "\u00a0%")
        self.setObjectName("sentence")
        self.setAccessibleName(fact.text)
        self.setToolTip("Click to hear these hits alone")
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)

    def _text_area(self) -> QRect:
        return QRect(9, 5, max(40, self.width() - 18), 2_000)

    def resizeEvent(self, event: object) -> None:  # noqa: N802  # Qt's name
        metrics = QFontMetrics(theme().font(16, weight=500))
        flags = Qt.TextFlag.TextWordWrap | Qt.AlignmentFlag.AlignTop
        self.setFixedHeight(metrics.boundingRect(self._text_area(), flags, self._text).height() + 11)

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802  # Qt's name
        super().paintEvent(event)
        painter = QPainter(self)
        painter.setFont(theme().font(16, weight=500))
        painter.setPen(theme().colour("paper"))
        painter.drawText(self._text_area(), Qt.TextFlag.TextWordWrap | Qt.AlignmentFlag.AlignTop, self._text)

    def enterEvent(self, event: object) -> None:  # noqa: N802  # Qt's name
        self._stage.steps.light(self._fact.hit_ids)

    def leaveEvent(self, event: object) -> None:  # noqa: N802  # Qt's name
        self._stage.steps.light(())
