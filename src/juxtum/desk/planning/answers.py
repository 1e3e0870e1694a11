"""Answers to the topics of Plan, computed away from the interface and kept until their question changes."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from juxtum.desk.planning import topics
from juxtum.desk.planning.topics import Topic
from juxtum.desk.session import Session
from juxtum.errors import Cancelled, JuxtumError
from juxtum.plan.planner import Planner
from juxtum.plan.targets.ways import WayResult
from juxtum.progress import Progress


class Stopped(JuxtumError):
    """Work on a topic that the user stopped."""


class Answers:
    """Asks and remembers.

    Parameters
    ----------
    session : Session
        Its worker computes.
    arrived : callable
        Told the topic whose answer came.
    """

    def __init__(self, session: Session, arrived: Callable[[Topic], None]) -> None:
        self._session, self._arrived = session, arrived
        self._kept: dict[Topic, tuple[str, Any]] = {}
        self._ways: tuple[str, tuple[WayResult, ...]] | None = None
        self._asked: set[str] = set()

    def get(self, topic: Topic, planner: Planner | None) -> Any:
        """The answer to a topic, if it is there and still right."""
        question, made = self._kept.get(topic, ("", None))
        return made if planner is not None and question == topics.question(topic, planner) else None

    def last(self, topic: Topic) -> Any:
        """The last answer to a topic, right or outdated."""
        return self._kept.get(topic, ("", None))[1]

    def ways(self, planner: Planner) -> tuple[WayResult, ...]:
        """The ways to go, as far as they are known."""
        return self._ways[1] if self._ways is not None and self._ways[0] == topics.ways_question(planner) else ()

    def forget_stopped(self, topic: Topic) -> None:
        """Let what was stopped be asked again."""
        if isinstance(self.last(topic), Stopped):
            del self._kept[topic]

    def ask(self, topic: Topic, planner: Planner) -> None:
        """Have a topic computed, once for each question; then the ways to go, which take longer."""
        question = topics.question(topic, planner)
        made = self.get(topic, planner)
        if made is None and question not in self._asked:
            self._compute(topic, question, planner)
        elif isinstance(made, topics.TargetsAnswer) and planner.plan.is_tracked:
            question = topics.ways_question(planner)
            if question not in self._asked and (self._ways is None or self._ways[0] != question):
                self._compute_ways(question, planner)

    def _compute(self, topic: Topic, question: str, planner: Planner) -> None:
        self._asked.add(question)

        def work(progress: Progress) -> object:
            try:
                return topics.answer(topic, planner, progress)
            except Cancelled:
                return Stopped("this was stopped", topic.value, "Turn to the topic again")
            except JuxtumError as problem:
                return problem

        def done(made: object) -> None:
            self._asked.discard(question)
            self._kept[topic] = (question, made)
            self._arrived(topic)

        self._session.compute(work, done)

    def _compute_ways(self, question: str, planner: Planner) -> None:
        self._asked.add(question)

        def work(progress: Progress) -> object:
            try:
                return topics.ways(planner, progress)
            except (JuxtumError, Cancelled):
                return ()

        def done(made: object) -> None:
            assert isinstance(made, tuple)
            self._asked.discard(question)
            self._ways = (question, made)
            self._arrived(Topic.TARGETS)

        self._session.compute(work, done)
