"""The head of the job against a list model: whatever happens beside each other, nothing accepted is lost."""

from __future__ import annotations

from dataclasses import dataclass

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from juxtum.errors import InputError, JobError
from juxtum.job import Brief, Job
from juxtum.job.timeline import Draft, Timeline, carried_over

pytestmark = pytest.mark.quick

EVENTS = ("edit", "drag", "undo", "redo", "take", "settle", "fail", "patch")


def edits_of(job: Job) -> tuple[str, ...]:
    return job.prepared


def patches_of(job: Job) -> set[str]:
    return set(job.brief.note.split())


def adding(name: str):  # type: ignore[no-untyped-def]
    return lambda job: job.model_copy(update={"prepared": (*job.prepared, name)})


def patch(name: str):  # type: ignore[no-untyped-def]
    return lambda job: job.model_copy(
        update={"brief": job.brief.model_copy(update={"note": f"{job.brief.note} {name}"})}
    )


@dataclass
class Move:
    """One wish: an edit by its name, or undo or redo of the edit that was on top when it was asked."""

    kind: str
    name: str


class Lists:
    """What a person expects, as plain lists: all wishes in their order, made again from nothing each time."""

    def __init__(self) -> None:
        self.moves: list[Move] = []
        self.settled = 0

    def state(self, count: int | None = None) -> tuple[list[str], list[str]]:
        """Names of the edits that are made, and of those that can be made again."""
        done: list[str] = []
        undone: list[str] = []
        for move in self.moves[:count]:
            if move.kind == "edit":
                done, undone = [*done, move.name], []
            elif move.kind == "undo" and done and done[-1] == move.name:
                undone.append(done.pop())
            elif move.kind == "redo" and undone and undone[-1] == move.name:
                done.append(undone.pop())
        return done, undone


@given(st.lists(st.sampled_from(EVENTS), max_size=60))
@settings(deadline=None, max_examples=300)
def test_nothing_accepted_is_lost(events: list[str]) -> None:
    timeline, lists, drafts, patches = Timeline(Job()), Lists(), [], set()
    taken: Draft | None = None
    for number, event in enumerate(events):
        name = str(number)
        done, undone = lists.state()
        if event == "edit":
            drafts.append(timeline.propose(name, adding(name)))
            lists.moves.append(Move("edit", name))
        elif event == "undo" and done:
            drafts.append(timeline.undo())
            lists.moves.append(Move("undo", done[-1]))
        elif event == "redo" and undone:
            drafts.append(timeline.redo())
            lists.moves.append(Move("redo", undone[-1]))
        elif event == "take" and taken is None:
            taken = timeline.take()
        elif event == "settle" and taken is not None:
            timeline.settle(taken)
            lists.settled += 1
            drafts.pop(0)
            taken = None
        elif event == "fail" and taken is not None:
            timeline.drop(taken)
            del lists.moves[lists.settled]
            drafts.pop(0)
            taken = None
            _forget_what_moves_nothing(lists)
        elif event == "patch":
            patches.add(f"p{name}")
            timeline.note(patch(f"p{name}"))
        done, undone = lists.state()
        assert edits_of(timeline.newest) == tuple(done)
        assert timeline.undo_label == (done[-1] if done else None) and timeline.redo_label == (
            undone[-1] if undone else None
        )
        assert edits_of(timeline.settled) == tuple(lists.state(lists.settled)[0])
        assert patches_of(timeline.newest) == patches_of(timeline.settled) == patches
    while timeline.undo() is not None:
        assert patches_of(timeline.newest) == patches, "no undo takes a captured patch away"


def _forget_what_moves_nothing(lists: Lists) -> None:
    """An undo or redo whose edit failed has gone with it."""
    kept = lists.moves[: lists.settled]
    for move in lists.moves[lists.settled :]:
        before = Lists()
        before.moves = kept
        after = Lists()
        after.moves = [*kept, move]
        if before.state() != after.state():
            kept = after.moves
    lists.moves = kept


def named(text: str) -> Job:
    return Job(id="0" * 32, brief=Brief(part=text))


def test_a_drag_is_one_entry_and_only_its_newest_state_is_derived() -> None:
    timeline = Timeline(named("a"))
    first = timeline.propose("limits", lambda _: named("b"), merge="drag 1")
    assert timeline.take() is first
    for text in "cde":
        timeline.propose("limits", lambda _, t=text: named(t), merge="drag 1")
    timeline.settle(first)
    second = timeline.take()
    assert second is not None and second.job == named("e")
    timeline.settle(second)
    assert not timeline.is_waiting
    timeline.undo()
    assert timeline.newest == named("a")


def test_an_edit_that_fails_takes_only_itself_along() -> None:
    timeline = Timeline(Job())
    for name in "abc":
        timeline.propose(name, adding(name))
    first = timeline.take()
    assert first is not None
    timeline.drop(first)
    assert edits_of(timeline.newest) == ("b", "c")


def test_an_edit_that_needs_the_failed_one_goes_with_it() -> None:
    def needs_a(job: Job) -> Job:
        if "a" not in job.prepared:
            raise InputError("there is no a")
        return adding("after a")(job)

    timeline = Timeline(Job())
    first = timeline.propose("a", adding("a"))
    timeline.propose("after a", needs_a)
    timeline.propose("b", adding("b"))
    assert first is not None
    timeline.drop(first)
    assert edits_of(timeline.newest) == ("b",)


def test_only_the_oldest_move_is_settled() -> None:
    timeline = Timeline(Job())
    timeline.propose("a", adding("a"))
    second = timeline.propose("b", adding("b"))
    with pytest.raises(JobError, match="out of its turn"):
        timeline.settle(second)


def test_slow_work_does_not_overwrite_what_was_edited_meanwhile() -> None:
    base = Job(brief=Brief(part="A"))
    made = base.model_copy(update={"brief": base.brief.model_copy(update={"serial": "7"})})
    newest = adding("safe")(base.model_copy(update={"brief": base.brief.model_copy(update={"drawing": "D"})}))
    together = carried_over(base, made, newest)
    assert (together.brief.serial, together.brief.drawing, together.prepared) == ("7", "D", ("safe",))
    other = base.model_copy(update={"brief": base.brief.model_copy(update={"serial": "8"})})
    with pytest.raises(JobError, match="the serial was changed while"):
        carried_over(base, made, other)
