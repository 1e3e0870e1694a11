"""The one reader of JSON documents: with a limit on their size, checked, and refused in one sentence."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Generic, TypeVar

from pydantic import BaseModel, ValidationError

from juxtum.errors import InputError
from juxtum.exchange.limits import check_file

M = TypeVar("M", bound=BaseModel)


@dataclass(frozen=True)
class Form(Generic[M]):
    """What a document of a kind is, and how it is refused.

    Parameters
    ----------
    model : type
        Checks it.
    what : str
        What it should be, with its article.
    help : str
        What the person does next.
    most : int
        More bytes are not read.
    """

    model: type[M]
    what: str
    help: str
    most: int = 1_000_000


def read_document(path: Path, form: Form[M], forward: Callable[[bytes], bytes] = bytes) -> M:
    """A document from a file.

    Parameters
    ----------
    forward : callable
        Brings the bytes of an older version forward.

    Raises
    ------
    InputError
        When it is too large, not JSON, or says something impossible.
    """
    if check_file(path) > form.most:
        raise InputError(f"this is too large to be {form.what}", str(path), f"Give {form.what} in JSON")
    return parse_document(forward(path.read_bytes()), str(path), form)


def parse_document(data: bytes, where: str, form: Form[M]) -> M:
    """A document from its bytes.

    Raises
    ------
    InputError
        When it is not JSON or says something impossible.
    """
    try:
        return form.model.model_validate_json(data)
    except ValidationError as problem:
        raise InputError(f"this is not {form.what}: {validation_sentence(problem)}", where, form.help) from problem


def validation_sentence(problem: ValidationError) -> str:
    """The first complaint of a document's check, in words; what the document says of itself as a whole stands as it is."""
    first = problem.errors()[0]
    if first["type"] == "value_error" and not first["loc"]:
        return first["msg"].removeprefix("Value error, ")
    place = ".".join(str(part) for part in first["loc"]) or "the document"
    return f"'{place}' is not right: {first['msg'].lower()}"
