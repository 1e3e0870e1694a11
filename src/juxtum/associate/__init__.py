"""Association: ideal features fitted to measured points."""

from juxtum.associate.circle import CircleFit, fit_circle
from juxtum.associate.gauss import CylinderFit, PlaneFit, fit_cylinder, fit_plane

__all__ = ["CircleFit", "CylinderFit", "PlaneFit", "fit_circle", "fit_cylinder", "fit_plane"]
