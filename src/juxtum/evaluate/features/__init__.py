"""Features of a scan: grown from a click, taken from faces of the drawing, or through picked places; each with what is known of it."""

from juxtum.evaluate.features.growing import Region, grow
from juxtum.evaluate.features.taken import (
    MeasuredFeature,
    Question,
    TakenFeature,
    ready_for_clicks,
    take_feature,
)
from juxtum.evaluate.features.values import FeatureValue

__all__ = [
    "FeatureValue",
    "MeasuredFeature",
    "Question",
    "Region",
    "TakenFeature",
    "grow",
    "ready_for_clicks",
    "take_feature",
]
