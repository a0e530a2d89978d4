"""Study: what makes the groove work, and how near is what was made."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec.structs import replace
from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtWidgets import QHBoxLayout, QListWidget, QStackedWidget, QVBoxLayout, QWidget

from bompla.app.project.session import Session
from bompla.app.project.tasks import Cancelled, Newest, Threads, Token
from bompla.app.sound.playback import Playback
from bompla.app.stage import Stage, WindowActions
from bompla.app.study.compare_panel import ComparePanel
from bompla.app.study.ear_panel import EarPanel
from bompla.app.study.ear_picture import EarPicture
from bompla.app.study.lesson_panel import LessonPanel
from bompla.app.study.near_panel import NearPanel
from bompla.app.study.pictures import BarsPicture, PaperPicture, StepPicture
from bompla.app.study.sides import ORIGINAL, ShownSide, Side, repeated, side_of
from bompla.app.study.small_pictures import DensityPicture, SwingPicture
from bompla.app.study.strip import DifferenceStrip
from bompla.app.ui.controls import Chips, Facts, Panel, button, clear_layout, scrolling
from bompla.app.ui.sentence import Sentence
from bompla.audio.clip import Clip
from bompla.errors import BomplaError
from bompla.export.engrave import Engraved
from bompla.groove.lesson import LessonStep, lesson_of
from bompla.groove.read import GrooveRead, read_groove
from bompla.groove.seen import Fact
from bompla.model.detected_pattern import hits_inside, pattern_bars, pattern_beats, pattern_meter, pattern_of
from bompla.model.document import Document
from bompla.model.pattern_edits import usual_velocity
from bompla.model.phrase_edits import with_first_bars
from bompla.model.wording import counted
from bompla.render.sound_difference import SoundDifference, sound_difference

if TYPE_CHECKING:  # it brings SciPy, which the window does without until something is studied
    from bompla.groove.compare import Compared, Difference, Struck

WAIT_MS = 120
WIDE = 340
SMALL = {"alike": "alike", "density": "hits", "swing": "swing"}
MODES = {"words": "In words", "compare": "Compared", "layers": "In layers", "ear": "By ear", "shelf": "On the shelf"}


MOST_BARS_ON_SCREEN, MOST_NOTES_ON_SCREEN = 32, 600


@dataclass(frozen=True, eq=False)
class StudyRequest:
    """All that is asked at once: the document, and the two sides that are compared, where they are not the usual ones."""

    document: Document
    one: Side | ShownSide
    other: Side | ShownSide


@dataclass(frozen=True, eq=False)
class Studied:
    """What came of it: the groove read, what is compared, and the steps to learn it by."""

    document: Document
    read: GrooveRead
    compared: Compared
    lesson: tuple[LessonStep, ...]
    struck: list[Struck]


@dataclass(frozen=True, eq=False)
class SoundRequest:
    """The original and a pattern of a document, to be compared as they sound."""

    document: Document
    clip: Clip
    borrowed: Mapping[str, Clip]


def _study(request: StudyRequest, _token: Token) -> Studied:
    from bompla.groove.compare import compared, struck_in

    document = request.document
    beats = pattern_beats(document)
    one, other = (side.found() if isinstance(side, ShownSide) else side for side in (request.one, request.other))
    found = compared(repeated(one, beats), repeated(other, beats), bpm=document.bpm)
    return Studied(document, read_groove(document), found, lesson_of(document), struck_in(document))


def _sound(request: SoundRequest, token: Token) -> SoundDifference:
    from bompla.engine.turns import original_and_rebuilt
    from bompla.render.events import BakeRequest

    baked = BakeRequest(request.document, request.clip, request.clip.sample_rate, request.borrowed)
    return sound_difference(*original_and_rebuilt(baked, token.check))


def bars_on_screen(document: Document) -> int:
    """Return how many bars from the first are engraved to be looked at: of a long part no more than can be drawn while one waits."""
    per_bar, most = pattern_meter(document).beats_per_bar, MOST_BARS_ON_SCREEN
    late = sorted(hit.at_beats for hit in hits_inside(document))
    if len(late) > MOST_NOTES_ON_SCREEN:
        most = min(most, max(1, int(late[MOST_NOTES_ON_SCREEN] // per_bar)))
    return most


def _engrave(document: Document, token: Token) -> Engraved | str:
    from bompla.export.paper import on_paper
    from bompla.groove.score import score_of

    try:
        return on_paper(score_of(with_first_bars(document, bars_on_screen(document))), check=token.check)
    except Cancelled:
        raise
    except BomplaError as error:
        return str(error)


class StudyStage(Stage):
    """The fifth stage: pictures on the left, and on the right one of five ways to study."""

    key = "study"

    def __init__(self, session: Session, playback: Playback, actions: WindowActions) -> None:
        super().__init__(session, playback, actions)
        self._threads = Threads(self)
        self._newest = Newest()
        self._studied: Studied | None = None
        self._asked: tuple[object, ...] = ()
        self._difference: SoundDifference | None = None
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(WAIT_MS)
        self._timer.timeout.connect(self._ask)
        layout, left = self.columns()
        self.mode = "words"
        self.modes = Chips("Ways to study")
        self.modes.chosen.connect(lambda key: self.show_mode(str(key)))
        left.addWidget(self.modes, 0, Qt.AlignmentFlag.AlignLeft)
        self._left = QStackedWidget()
        left.addWidget(self._left, 1)
        self._left.addWidget(self._pictures())
        self.ear_picture = EarPicture(session)
        self.ear_picture.struck.connect(self._hear_pad)
        self.ear_picture.sought.connect(playback.transport.seek)
        self._left.addWidget(self.framed(self.ear_picture))
        self.compare = ComparePanel(session)
        self.compare.sides_changed.connect(self._timer.start)
        self.compare.shown.connect(self._show_difference)
        self.lesson, self.ear = LessonPanel(playback), EarPanel(session)
        self.lesson.lit.connect(self.steps_light)
        self.near = NearPanel(session, playback, actions.open_file, self.compare_with)
        self._right = QStackedWidget()
        self._right.setFixedWidth(WIDE)
        for page in (scrolling(self._words()), self.compare, scrolling(self.lesson), scrolling(self.ear), self.near):
            self._right.addWidget(page)
        layout.addWidget(self._right)
        session.project.sound_changed.connect(self._forget)
        self.command("difference_next", partial(self.step, 1))
        self.command("difference_back", partial(self.step, -1))
        self.command("difference_mend", self.mend)
        self.command("lesson_next", partial(self._lesson_go, 1))
        self.command("lesson_back", partial(self._lesson_go, -1))
        self.command("ear_count", self.ear.ask.click)
        self.command("ear_hint", self.ear.hint.click)
        self.show_mode("words")
        self.connect_all()

    def _pictures(self) -> QWidget:
        whole = QWidget()
        column = QVBoxLayout(whole)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(9)
        steps = Panel("All bars over one")
        self.steps = StepPicture(self.session)
        self.steps.heard.connect(self._hear_pad)
        self.views = Chips("What the picture shows")
        self.views.offer([("place", "place"), ("offset", "offset"), ("velocity", "velocity")], "place",
                         tip="Place: where each hit falls, as large as it is hard. Offset: how early or late. Velocity: how hard")
        self.views.chosen.connect(lambda view: self.steps.show_view(str(view)))
        steps.title_row(self.views)
        steps.body.addWidget(self.steps, 1)
        column.addWidget(steps, 3)
        self._strip_panel = Panel("Where original and pattern differ as they sound · time across, low to high")
        self.strip = DifferenceStrip()
        self.strip.chosen.connect(self._hear_share)
        self._strip_panel.body.addWidget(self.strip)
        column.addWidget(self._strip_panel)
        row = QHBoxLayout()
        bars = Panel()
        self.bars, self.density, self.swing = BarsPicture(), DensityPicture(), SwingPicture()
        self.bars.chosen.connect(self._hear_bar)
        self.density.chosen.connect(self._hear_bar)
        self.small = Chips("Which picture of the bars")
        self.small.offer(list(SMALL.items()), "alike", tip="Which bars are alike; how many hits each has; where second notes of pairs fall")
        bars.body.addWidget(self.small, 0, Qt.AlignmentFlag.AlignLeft)
        stack = QStackedWidget()
        for picture in (self.bars, self.density, self.swing):
            stack.addWidget(picture)
        self.small.chosen.connect(lambda key: stack.setCurrentIndex(list(SMALL).index(str(key))))
        bars.body.addWidget(stack, 1)
        row.addWidget(bars, 2)
        paper = Panel("On paper · click a bar to hear it")
        self.paper = PaperPicture()
        self.paper.chosen.connect(self._hear_bar)
        paper.body.addWidget(self.paper, 1)
        row.addWidget(paper, 5)
        column.addLayout(row, 2)
        return whole

    def _words(self) -> QWidget:
        panel = Panel("In words · click a sentence to hear its hits")
        self.sentences = QVBoxLayout()
        self.sentences.setSpacing(1)
        panel.body.addLayout(self.sentences)
        self.all_hits = button("Hear all again", self.hear_all, tip="Play the whole pattern, all of it lit")
        panel.body.addWidget(self.all_hits, 0, Qt.AlignmentFlag.AlignLeft)
        panel.body.addStretch(1)
        return panel

    @property
    def list(self) -> QListWidget:
        """The list of differences."""
        return self.compare.list

    @property
    def facts(self) -> Facts:
        """The numbers of the comparison."""
        return self.compare.facts

    def picture(self) -> QWidget:
        """Return what takes the keys: the lanes by ear, or else the list of differences."""
        return self.compare.list

    def show_mode(self, key: str) -> None:
        """Show one of the ways to study."""
        if self.mode == "ear" and key != "ear":
            self.ear.stop_clock()
        self.mode = key
        self.modes.offer(list(MODES.items()), key)
        self._right.setCurrentIndex(list(MODES).index(key))
        self._left.setCurrentIndex(1 if key == "ear" else 0)
        self._strip_panel.setVisible(key == "compare")
        if key == "ear":
            self.ear.go_on()
            self.ear_picture.setFocus()
        document = self.session.store.document
        if document is not None and self.isVisible():
            self.refresh(document)
            self._look_near()
            self._compare_sound()

    @property
    def busy(self) -> bool:
        """Whether something is being read."""
        return self._timer.isActive() or self._threads.busy or self.near.busy

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
        self.compare.offer()
        self.ear.refresh(document)
        if self._studied is None or self._studied.document is not document:
            self._timer.start()

    def set_playhead(self, at_sample: float) -> None:
        """Show where it plays, in all pictures."""
        document = self.session.store.document
        if document is None or not self.playback.transport.playing:
            return
        if self.mode == "ear":
            self.ear_picture.set_playhead(at_sample)
            return
        beat = float(document.beat_map.beat_at(self.playback.transport.pattern_sample()))
        per_bar = pattern_meter(document).beats_per_bar
        self.steps.show_beat(beat % per_bar)
        self.bars.show_bar(int(beat // per_bar))
        self.density.show_bar(int(beat // per_bar))
        self.paper.show_bar(int(beat // per_bar))
        if self.mode == "compare":
            self.strip.show_share(beat / document.loop.length_beats)

    def hideEvent(self, event: object) -> None:  # noqa: N802  # Qt's name
        self.ear.stop_clock()

    def showEvent(self, event: object) -> None:  # noqa: N802  # Qt's name
        super().showEvent(event)
        if self.mode == "ear":
            self.ear.go_on()

    def close_all(self) -> None:
        """End all reading."""
        self._timer.stop()
        self._threads.close()
        self.near.close_all()

    def step(self, by: int) -> None:
        """Go to the next difference, or so many on, and hear it."""
        if self.mode != "compare":
            self.show_mode("compare")
        self.compare.step(by)

    def mend(self) -> None:
        """Make the pattern like the original where the difference is that is shown."""
        self.compare.mend()

    def compare_with(self, path: Path) -> None:
        """Compare this pattern with another loop, hit by hit."""
        self.show_mode("compare")
        self.compare.bring(path)

    def steps_light(self, hit_ids: tuple[int, ...]) -> None:
        """Light some hits in the pictures; none lights all."""
        self.steps.light(hit_ids)

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

    def _lesson_go(self, by: int) -> None:
        if self.mode == "layers":
            self.lesson.go(by)

    def _hear_pad(self, pad_id: int) -> None:
        document = self.session.store.document
        if document is not None:
            self.playback.pads.strike(pad_id, usual_velocity(document, pad_id))

    def _hear_bar(self, bar: int) -> None:
        document = self.session.store.document
        if document is not None:
            per_bar = pattern_meter(document).beats_per_bar
            self._hear_beats(document, bar * per_bar, (bar + 1) * per_bar)

    def _hear_beats(self, document: Document, first: float, last: float) -> None:
        clip = self.session.project.clip
        if clip is not None:
            places = document.beat_map.samples_at([first, last]).tolist()
            start, end = (max(0, min(document.source.frames, round(place))) for place in places)
            self.playback.previews.play(clip, start, end, alone=True)

    def _hear_share(self, share: float) -> None:
        document = self.session.store.document
        if document is not None:
            self._hear_turns(document, share * document.loop.length_beats - 0.5, share * document.loop.length_beats + 0.5)

    def _hear_turns(self, document: Document, first: float, last: float) -> None:
        """Play a stretch of the original and of the pattern in turn, equally loud."""
        clip = self.session.project.clip
        if clip is not None:
            self.playback.previews.play_turns(document, clip, self.session.project.borrowed, first, last)

    def _ask(self) -> None:
        document = self.session.store.document
        if document is None or not self.isVisible():
            return
        one, other = (side_of(self.session, document, key, self.compare.brought) for key in self.compare.keys)
        request = StudyRequest(document, one, other)
        self._newest.keep("read", self._threads.run(_study, request, done=self._take, failed=self.session.hub.trouble))
        if self._studied is None or self._studied.document is not document:
            self._newest.keep("paper", self._threads.run(_engrave, document, done=self._take_paper, failed=self.session.hub.trouble))

    def _take(self, studied: Studied) -> None:
        fresh = self._studied is None or self._studied.document is not studied.document
        self._studied = studied
        self.bars.show_read(studied.read)
        self.steps.show_read(studied.read)
        self.swing.show_read(studied.read)
        self.density.show_document(studied.document)
        if fresh:
            clear_layout(self.sentences)
            for fact in studied.read.sentences():
                self.sentences.addWidget(self._sentence(fact))
            self.lesson.show_steps(studied.lesson)
        self.compare.show_compared(studied.document, studied.compared, None)
        self._asked = () if fresh else self._asked
        self._compare_sound()
        self._look_near()
        self.line_changed.emit()

    def _sentence(self, fact: Fact) -> Sentence:
        made = Sentence("", fact.text, tip="Click to hear these hits alone")
        made.clicked.connect(lambda _=False: self.hear_fact(fact))
        made.pointed.connect(lambda on: self.steps.light(fact.hit_ids if on else ()))
        return made

    def _take_paper(self, engraved: Engraved | str) -> None:
        if isinstance(engraved, str):
            self.session.hub.trouble(engraved)
        else:
            document = self.session.store.document
            bars, shown = (pattern_bars(document), bars_on_screen(document)) if document is not None else (0, 0)
            self.paper.show_paper(engraved, f"the first {shown} of {bars} bars" if shown < bars else "")

    def _compare_sound(self) -> None:
        """Compare how original and pattern sound, where both are of this loop and as long."""
        document, clip, studied = self.session.store.document, self.session.project.clip, self._studied
        if self.mode != "compare" or document is None or clip is None or studied is None:
            return
        one, other = self.compare.keys
        shown = side_document(document, other)
        if one != ORIGINAL or shown is None or pattern_beats(shown) != document.loop.length_beats:
            self.strip.show_difference(None)
            return
        asked = (shown, clip)
        if asked == self._asked and self._difference is not None:
            self._show_sound(self._difference)
            return
        self._asked, self._difference = asked, None

        def take(difference: SoundDifference) -> None:
            self._difference = difference
            self._show_sound(difference)

        request = SoundRequest(shown, clip, self.session.project.borrowed)
        self._newest.keep("sound", self._threads.run(_sound, request, done=take, failed=self.session.hub.trouble))

    def _show_sound(self, difference: SoundDifference) -> None:
        self.strip.show_difference(difference)
        self.compare.facts.set("sound", f"{difference.mean_db:.1f} dB apart, in all bands")

    def _look_near(self) -> None:
        if self.mode == "shelf" and self._studied is not None:
            self.near.look(self._studied.document, self._studied.struck)

    def _show_difference(self, difference: Difference | None) -> None:
        """Light what differs, and play half a beat around it, original and pattern in turn."""
        document = self.session.store.document
        if difference is None or document is None:
            return
        self.steps.light((difference.other.hit_id,) if difference.other is not None else (-1,))
        self.steps.mark("" if difference.other is not None else difference.drum, difference.at_beats)
        first, last = difference.at_beats - 0.5, difference.at_beats + 0.5
        one, other = self.compare.keys
        shown = side_document(document, other)
        if one == ORIGINAL and shown is not None:
            self._hear_turns(shown, first, last)
        else:
            self._hear_beats(document, first, last)

    def _forget(self) -> None:
        self._studied, self._asked = None, ()
        self.steps.light(())


def side_document(document: Document, key: str) -> Document | None:
    """Return a document that shows a side of this loop, None for a side that is no pattern of it."""
    kind, _, which = key.partition(" ")
    if kind == "shown":
        return document
    index = next((n for n, one in enumerate(document.variations) if kind == "variation" and one.letter == which), -1)
    return replace(document, shown=index) if index >= 0 else None
