"""Types of the parameters that documents hold."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

Finite = Annotated[float, Field(allow_inf_nan=False)]
Triple = tuple[Finite, Finite, Finite]
Name = Annotated[str, Field(min_length=1, max_length=80)]
Title = Annotated[str, Field(min_length=1, max_length=200)]
Numbers = Annotated[tuple[Annotated[int, Field(ge=1)], ...], Field(max_length=10_000)]
"""Of nominal faces, from 1."""
