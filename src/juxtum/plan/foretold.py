"""What planning foretells of a method's error on this part, in place of what its document says of parts in general."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from juxtum.instruments.models import ErrorChain, InstrumentModel, Kind


@dataclass(frozen=True)
class Foretold:
    """Error of what a method rests on, for this part.

    Parameters
    ----------
    needs : str
        Which methods: those that need this ("bars", "tracker").
    a, b : float
        Expanded uncertainty (k = 2) at no length and its growth per metre, mm.
    source : str
        In words.
    """

    needs: str
    a: float
    b: float
    source: str

    def on(self, chain: ErrorChain, model: InstrumentModel) -> ErrorChain:
        """The method with what is foretold for this part: its instrument's own error within a field, and the rest on top.

        The document's a and b are limits of permissible error and count as rectangular (metrology.md 8), so that an
        expanded uncertainty enters as the limit whose standard uncertainty is the same: sqrt(3) U / 2.
        """
        if chain.needs != self.needs:
            return chain
        # A photo set measures nothing but the network; a scanner adds what it is off within one field of view.
        own = 0.0 if model.kind is Kind.PHOTO else min(c.a for c in model.chains)
        limit = np.sqrt(3) / 2
        return chain.model_copy(update={"a": float(np.hypot(own, limit * self.a)), "b": float(limit * self.b)})


def with_foretold(model: InstrumentModel, foretold: Mapping[str, Foretold]) -> InstrumentModel:
    """An instrument whose methods have the errors that are foretold for this part."""
    if not foretold:
        return model
    chains = tuple(foretold[c.needs].on(c, model) if c.needs in foretold else c for c in model.chains)
    return model.model_copy(update={"chains": chains})
