"""The steps of a procedure: parameters, what they read, how they run; told apart by their `kind`. One row here adds one."""

from typing import Annotated

from pydantic import Field

from juxtum.evaluate.kinds import Kind
from juxtum.job.steps.aligning import (
    AlignModel,
    AsScanned,
    BestFit,
    DatumChoice,
    Datums,
    FaceWeight,
    KnownTargets,
    Pairs,
    ReferencePlace,
    ReferencePoints,
    Rough,
    read_reference_places,
)  # fmt: skip
from juxtum.job.steps.base import Coat, Outcomes, Source, StepModel
from juxtum.job.steps.cleaning import CleaningModel, Fragments, PlaneChoice, Selection, Strays, Trim
from juxtum.job.steps.entities import ByEntities, Spot
from juxtum.job.steps.features import ConstructStep, FeatureStep
from juxtum.job.steps.finishing import Fill, FinishingModel, Repair, Smooth, TargetsOff, Thin
from juxtum.job.steps.joining import Join, PickedPairs
from juxtum.job.steps.measuring import Decide, GridStep, Measure, ReadingStep, WallsStep, read_readings
from juxtum.job.steps.sections import SectionStep
from juxtum.job.steps.separating import Separate

FinishingStep = TargetsOff | Repair | Fill | Smooth | Thin
CleaningStep = Trim | Fragments | Strays | Selection | FinishingStep
AlignStep = AsScanned | Rough | Pairs | BestFit | Datums | ReferencePoints | KnownTargets | ByEntities
TakingStep = ReadingStep | GridStep
MeasureStep = Measure | TakingStep | SectionStep | FeatureStep | ConstructStep | WallsStep | Decide
Step = Annotated[CleaningStep | Join | Separate | AlignStep | MeasureStep | Kind, Field(discriminator="kind")]

STEPS: tuple[type[StepModel], ...] = (
    Trim, Fragments, Strays, Selection, TargetsOff, Repair, Fill, Smooth, Thin, Join, Separate,
    AsScanned, Rough, Pairs, BestFit, Datums, ReferencePoints, KnownTargets, ByEntities,
    Measure, ReadingStep, GridStep,
    SectionStep, FeatureStep, ConstructStep, WallsStep, Decide,
)  # fmt: skip
"""All kinds but those of characteristics, which have a registry of their own."""

__all__ = [
    "STEPS",
    "AlignModel",
    "AlignStep",
    "AsScanned",
    "BestFit",
    "ByEntities",
    "CleaningModel",
    "CleaningStep",
    "Coat",
    "ConstructStep",
    "DatumChoice",
    "Datums",
    "Decide",
    "FaceWeight",
    "FeatureStep",
    "Fill",
    "FinishingModel",
    "FinishingStep",
    "Fragments",
    "GridStep",
    "Join",
    "KnownTargets",
    "Measure",
    "MeasureStep",
    "Outcomes",
    "Pairs",
    "PickedPairs",
    "PlaneChoice",
    "ReadingStep",
    "ReferencePlace",
    "ReferencePoints",
    "Repair",
    "Rough",
    "SectionStep",
    "Selection",
    "Separate",
    "Smooth",
    "Source",
    "Spot",
    "Step",
    "StepModel",
    "Strays",
    "TakingStep",
    "TargetsOff",
    "Thin",
    "Trim",
    "WallsStep",
    "read_readings",
    "read_reference_places",
]
