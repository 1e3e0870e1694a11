"""Features of a scan: grown from a click, taken from faces of the drawing, through picked places, or made of others; each with what is known of it."""

from juxtum.evaluate.features.built import Recipe, build_feature
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
    "Recipe",
    "Region",
    "TakenFeature",
    "build_feature",
    "grow",
    "ready_for_clicks",
    "take_feature",
]
