"""What the scan says about the part: deviation, readings, characteristics, uncertainty, decision."""

from juxtum.evaluate.decision import Decision, DecisionRule, Verdict, decide
from juxtum.evaluate.deviation import Deviation, SearchRule, measure_deviation
from juxtum.evaluate.quantity import Aim, Limits, Line, LineResult, Measured
from juxtum.evaluate.readings import Reading, grid_places, take_reading
from juxtum.evaluate.statistics import DeviationStatistics, Histogram, histogram, statistics
from juxtum.evaluate.uncertainty import Budget, Contribution
from juxtum.instruments.stated import Environment, Instrument

__all__ = [
    "Aim",
    "Budget",
    "Contribution",
    "Decision",
    "DecisionRule",
    "Deviation",
    "DeviationStatistics",
    "Environment",
    "Histogram",
    "Instrument",
    "Limits",
    "Line",
    "LineResult",
    "Measured",
    "Reading",
    "SearchRule",
    "Verdict",
    "decide",
    "grid_places",
    "histogram",
    "measure_deviation",
    "statistics",
    "take_reading",
]
