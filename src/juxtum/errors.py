"""The errors a user may meet: each one is a sentence with what, where and what next."""

from __future__ import annotations


class JuxtumError(Exception):
    """An expected failure, told to the user as one line.

    Parameters
    ----------
    what : str
        What went wrong, without a full stop.
    where : str
        The file, step or value it concerns.
    next : str
        What the user can do about it.
    """

    def __init__(self, what: str, where: str = "", next: str = "") -> None:
        self.what = _clean(what)
        self.where = _clean(where)
        self.next = _clean(next)
        super().__init__(self.sentence)

    @property
    def sentence(self) -> str:
        """The whole message on one line."""
        head = f"{self.where}: {self.what}" if self.where else self.what
        return f"{head}. {self.next}." if self.next else f"{head}."


def _clean(text: str) -> str:
    """Keep a message on one printable line, whatever a file name or a library put into it."""
    printable = text.encode("utf-8", "backslashreplace").decode("utf-8")
    return " ".join(printable.split()).rstrip(".")


class InputError(JuxtumError, ValueError):
    """A file or a value from outside that cannot be used."""


class FitError(JuxtumError, ValueError):
    """Data that does not determine what is asked of it."""


class AlignmentError(JuxtumError, ValueError):
    """An alignment that cannot be found or is left free."""


class JobError(JuxtumError):
    """A job that cannot be opened, saved or run."""


class Cancelled(Exception):
    """The user asked the running work to stop."""
