"""What every outcome of a job is made from: its name leads to what it reads, and so to a key of all that it depends on."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

from pydantic import BaseModel

from juxtum.errors import JobError
from juxtum.job.document import Job
from juxtum.job.steps.base import Outcomes, Source
from juxtum.progress import Progress


@dataclass(frozen=True)
class Node:
    """How an outcome is made.

    Parameters
    ----------
    parts : tuple
        What it depends on besides what it reads: documents, hashes, numbers.
    reads : mapping
        What it reads, by the name under which it asks for it.
    run : callable
        Makes it.
    aside : tuple of Source
        Read as well where they can be had, without bearing on what comes out.
    shelf : str
        How it is kept on disk; empty when it is not.
    consumes : tuple of Source
        What nobody needs any more once it is there, where memory is short.
    """

    parts: tuple[object, ...]
    reads: Mapping[Source, Source]
    run: Callable[[Outcomes, Progress], Any]
    aside: tuple[Source, ...] = ()
    shelf: str = ""
    consumes: tuple[Source, ...] = ()

    @property
    def needed(self) -> tuple[Source, ...]:
        """All that has to be there before it can be made."""
        return (*self.aside, *self.reads.values())


def under_their_names(*sources: Source) -> dict[Source, Source]:
    """What is asked for by the names it has anyway."""
    return {source: source for source in sources}


Family = Callable[["Graph", Source], Node]
"""Makes the node of an outcome of one family."""


@dataclass(eq=False)
class Graph:
    """The outcomes of a job.

    Parameters
    ----------
    job : Job
    families : mapping
        What makes the node of an outcome, by family.
    """

    job: Job
    families: Mapping[str, Family]
    _nodes: dict[Source, Node] = field(default_factory=dict)
    _keys: dict[Source, str] = field(default_factory=dict)

    def node(self, source: Source) -> Node:
        """How an outcome is made.

        Raises
        ------
        JobError
            When the job has nothing of that name.
        """
        if source not in self._nodes:
            if source.family not in self.families:
                raise JobError(f"nothing is called {source.text}", self.job.title, "This is an error of the program")
            self._nodes[source] = self.families[source.family](self, source)
        return self._nodes[source]

    def key(self, source: Source) -> str:
        """A hash over all that an outcome depends on.

        Raises
        ------
        JobError
            When it rests on itself, or on something that the job does not have.
        """
        waiting, begun = [source], set[Source]()
        while waiting:
            now = waiting[-1]
            missing = (
                [] if now in self._keys else [read for read in self.node(now).reads.values() if read not in self._keys]
            )
            begun.add(now)
            for read in missing:
                if read in begun:
                    raise JobError(f"the {read.text} starts from itself", "procedure", "Choose another start")
            waiting += missing
            if not missing:
                self._close(waiting.pop())
        return self._keys[source]

    def _close(self, source: Source) -> None:
        """Make the key of an outcome whose reads have theirs."""
        if source not in self._keys:
            node = self.node(source)
            self._keys[source] = key_of(source.family, *node.parts, *(self._keys[read] for read in node.reads.values()))

    def order(self, source: Source, is_there: Callable[[Source], bool]) -> list[Source]:
        """All outcomes that have to be made for one, each after what it reads; what is there need not be.

        No chain of steps is too long: it is walked, not nested.
        """
        self.key(source)
        waiting, begun, done = [source], set[Source](), dict[Source, None]()
        while waiting:
            now = waiting[-1]
            if now in done or (now not in begun and is_there(now)):
                waiting.pop()
            elif now in begun:
                done[waiting.pop()] = None
            else:
                begun.add(now)
                waiting += reversed(self.node(now).needed)
        return list(done)


def key_of(*parts: object) -> str:
    """A hash over documents, hashes and numbers."""
    texts = [part.model_dump_json() if isinstance(part, BaseModel) else str(part) for part in parts]
    return hashlib.sha256(json.dumps(texts).encode()).hexdigest()
