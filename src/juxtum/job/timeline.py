"""The one head of a job: edits are proposed at once, recorded when their results are there, and never lost beside each other."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

from juxtum.errors import JobError, JuxtumError
from juxtum.job.document import Job
from juxtum.job.roles import Input

BOUND = 200
Change = Callable[[Job], Job]


@dataclass(frozen=True, eq=False)
class Entry:
    """An edit that was made: what it is called, and the job on its other side."""

    number: int
    label: str
    mark: str
    job: Job


@dataclass(frozen=True, eq=False)
class Line:
    """A job with what it was and what it will be again."""

    job: Job
    past: tuple[Entry, ...] = ()
    future: tuple[Entry, ...] = ()

    def edited(self, number: int, label: str, mark: str, change: Change) -> Line:
        """With an edit made; edits in a row with the same mark become one entry."""
        made = change(self.job)
        if made == self.job:
            return self
        if mark and self.past and self.past[-1].mark == mark and not self.future:
            return Line(made, self.past)
        return Line(made, (*self.past, Entry(number, label, mark, self.job))[-BOUND:])

    def undone(self, number: int) -> Line:
        """One edit back, if the last edit is still the one of this number."""
        if not self.past or self.past[-1].number != number:
            return self
        last = self.past[-1]
        return Line(last.job, self.past[:-1], (*self.future, replace(last, job=self.job)))

    def redone(self, number: int) -> Line:
        """One edit forward, if the next edit is still the one of this number."""
        if not self.future or self.future[-1].number != number:
            return self
        following = self.future[-1]
        return Line(following.job, (*self.past, replace(following, job=self.job)), self.future[:-1])

    def with_fact(self, fact: Change) -> Line:
        """With something that happened put into every state of the job: no undo takes it back."""
        past = tuple(replace(entry, job=fact(entry.job)) for entry in self.past)
        future = tuple(replace(entry, job=fact(entry.job)) for entry in self.future)
        return Line(fact(self.job), past, future)


@dataclass(eq=False)
class Draft:
    """A move of the head that waits for its results.

    Parameters
    ----------
    label : str
        As undo names it.
    move : callable
        From the line before it to the line after it; pure.
    line : Line
        After it, all earlier drafts counted in.
    """

    label: str
    mark: str
    move: Callable[[Line], Line]
    line: Line

    @property
    def job(self) -> Job:
        """The job after it."""
        return self.line.job


class Timeline:
    """The only thing that changes a job.

    A move is proposed on the caller's thread and counts at once for the moves after it. Its results are derived
    elsewhere; then it is settled, or dropped and the later ones are made again without it.

    Examples
    --------
    >>> timeline = Timeline(Job())
    >>> draft = timeline.propose("another job", lambda job: job.model_copy(update={"prepared": ("safe",)}))
    >>> timeline.newest.prepared, timeline.settled.prepared
    (('safe',), ())
    >>> timeline.settle(timeline.take())
    >>> timeline.undo_label
    'another job'
    """

    def __init__(self, job: Job) -> None:
        self._line = Line(job)
        self._waiting: list[Draft] = []
        self._taken: Draft | None = None
        self._number = 0
        self._lock = threading.RLock()

    @property
    def settled(self) -> Job:
        """The job whose results were derived last."""
        return self._line.job

    @property
    def newest(self) -> Job:
        """The job with everything counted in that was proposed."""
        return self._last.job

    @property
    def _last(self) -> Line:
        return self._waiting[-1].line if self._waiting else self._line

    @property
    def is_waiting(self) -> bool:
        """Whether moves wait for their results."""
        return bool(self._waiting)

    @property
    def undo_label(self) -> str | None:
        """What undo would take back, seen from the newest job."""
        return self._last.past[-1].label if self._last.past else None

    @property
    def redo_label(self) -> str | None:
        """What redo would do again, seen from the newest job."""
        return self._last.future[-1].label if self._last.future else None

    def propose(self, label: str, change: Change, merge: str = "") -> Draft | None:
        """Apply a pure change to the newest job; None when it changes nothing.

        Parameters
        ----------
        merge : str
            Edits in a row with the same label and mark become one entry; while they wait, only the newest is derived.
        """
        with self._lock:
            self._number += 1
            number, mark = self._number, f"{label}\0{merge}" if merge else ""
            last = self._waiting[-1] if self._waiting else None
            if mark and last is not None and last is not self._taken and last.mark == mark:
                # The one that waits is taken up into this one.
                before = last.move
                return self._put(
                    label, mark, lambda line: before(line).edited(number, label, mark, change), instead=last
                )
            return self._put(label, mark, lambda line: line.edited(number, label, mark, change))

    def undo(self) -> Draft | None:
        """Propose to go one edit back."""
        with self._lock:
            past = self._last.past
            return self._put(past[-1].label, "", lambda line, n=past[-1].number: line.undone(n)) if past else None

    def redo(self) -> Draft | None:
        """Propose to go one edit forward."""
        with self._lock:
            future = self._last.future
            return self._put(future[-1].label, "", lambda line, n=future[-1].number: line.redone(n)) if future else None

    def _put(self, label: str, mark: str, move: Callable[..., Line], instead: Draft | None = None) -> Draft | None:
        kept = [d for d in self._waiting if d is not instead]
        before = kept[-1].line if kept else self._line
        after = move(before)
        self._waiting = kept
        if after is before:
            return None
        draft = Draft(label, mark, move, after)
        self._waiting.append(draft)
        return draft

    def note(self, fact: Change) -> None:
        """Put something that happened, such as a captured patch, into every state of the job at once."""
        with self._lock:
            self._line = self._line.with_fact(fact)
            self._again()

    def take(self) -> Draft | None:
        """The oldest move that waits, whose results are to be derived now."""
        with self._lock:
            self._taken = self._waiting[0] if self._waiting else None
            return self._taken

    def settle(self, draft: Draft | None) -> None:
        """Record a move whose results are there.

        Raises
        ------
        JobError
            When it is not the oldest one that waits: then something else moved the head.
        """
        with self._lock:
            if draft is None or not self._waiting or self._waiting[0] is not draft:
                raise JobError(
                    "a step was recorded out of its turn", draft.label if draft else "timeline", "Undo and do it again"
                )
            self._line = draft.line
            del self._waiting[0]
            self._taken = None

    def drop(self, draft: Draft) -> None:
        """Take a move out that could not be carried out; the later ones are made again without it."""
        with self._lock:
            self._waiting = [d for d in self._waiting if d is not draft]
            self._taken = None if self._taken is draft else self._taken
            self._again()

    def _again(self) -> None:
        """Make the waiting moves again on the settled line; those that fail or move nothing any more go."""
        line, kept = self._line, []
        for draft in self._waiting:
            try:
                after = draft.move(line)
            except (JuxtumError, ValueError):
                continue
            if after is not line:
                draft.line = line = after
                kept.append(draft)
        self._waiting = kept


def carried_over(base: Job, made: Job, newest: Job) -> Job:
    """What slow work made of a job, put onto the job as it has become meanwhile.

    Raises
    ------
    JobError
        When both changed the same thing.

    Examples
    --------
    >>> base = Job()
    >>> made, newest = base.model_copy(update={"prepared": ("safe",)}), base.model_copy(update={"id": "0" * 32})
    >>> carried_over(base, made, newest).prepared
    ('safe',)
    """
    return (
        made if newest is base else newest.model_copy(update=_differences(base, made, newest, deep=("plan", "brief")))
    )


def _differences(base: Any, made: Any, newest: Any, deep: tuple[str, ...] = ()) -> dict[str, Any]:
    update: dict[str, Any] = {}
    for name in type(base).model_fields:
        old, mine, theirs = (getattr(each, name) for each in (base, made, newest))
        if mine in (old, theirs):
            continue
        if theirs == old:
            update[name] = mine
        elif name == "inputs":
            update[name] = _inputs_of_both(old, mine, theirs)
        elif name in deep and None not in (old, mine, theirs):
            update[name] = theirs.model_copy(update=_differences(old, mine, theirs))
        else:
            raise JobError(f"the {name} was changed while this was being worked out", name, "Do it again")
    return update


def _inputs_of_both(old: tuple[Input, ...], mine: tuple[Input, ...], theirs: tuple[Input, ...]) -> tuple[Input, ...]:
    """Inputs that either side brought, replaced or took out, by their names."""
    before, made, newest = ({held.name: held for held in side} for side in (old, mine, theirs))
    merged = []
    for name in dict.fromkeys((*newest, *made)):
        kinds = before.get(name), made.get(name), newest.get(name)
        if kinds[0] not in kinds[1:] and kinds[1] != kinds[2]:
            raise JobError(f"the {name} was changed while this was being worked out", name, "Do it again")
        chosen = kinds[2] if kinds[1] == kinds[0] else kinds[1]
        merged += [] if chosen is None else [chosen]
    return tuple(merged)
