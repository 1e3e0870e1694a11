"""Association: ideal features fitted to measured points."""

from juxtum.associate.gauss import CylinderFit, PlaneFit, fit_cylinder, fit_plane

__all__ = ["CylinderFit", "PlaneFit", "fit_cylinder", "fit_plane"]
