"""Undo and redo: a bounded row of job documents with labels."""

from __future__ import annotations

from juxtum.job.document import Job

BOUND = 200


class History:
    """The job now, what it was and what it will be again.

    Examples
    --------
    >>> history = History(Job())
    >>> history.record("another job", Job())
    >>> history.undo_label, history.redo_label
    ('another job', None)
    """

    def __init__(self, job: Job) -> None:
        self._job = job
        self._past: list[tuple[str, Job]] = []
        self._future: list[tuple[str, Job]] = []
        self._marks: list[str] = []

    @property
    def job(self) -> Job:
        """As it is now."""
        return self._job

    @property
    def undo_label(self) -> str | None:
        """What undo would take back."""
        return self._past[-1][0] if self._past else None

    @property
    def redo_label(self) -> str | None:
        """What redo would do again."""
        return self._future[-1][0] if self._future else None

    def record(self, label: str, job: Job, merge: str = "") -> None:
        """Note an edit after it succeeded.

        Parameters
        ----------
        merge : str
            Edits in a row with the same mark become one entry: a drag, a word being typed.
        """
        if job == self._job:
            return
        mark = f"{label}\0{merge}" if merge else label
        if not (merge and self._past and self._marks[-1:] == [mark] and not self._future):
            self._past.append((label, self._job))
            self._marks.append(mark)
        del self._past[:-BOUND], self._marks[:-BOUND]
        self._future.clear()
        self._job = job

    def undo(self) -> Job:
        """One edit back."""
        if self._past:
            label, job = self._past.pop()
            self._marks.pop()
            self._future.append((label, self._job))
            self._job = job
        return self._job

    def redo(self) -> Job:
        """One edit forward."""
        if self._future:
            label, job = self._future.pop()
            self._past.append((label, self._job))
            self._marks.append(label)
            self._job = job
        return self._job
