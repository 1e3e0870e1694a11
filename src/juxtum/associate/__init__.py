"""Association: ideal features fitted to measured points."""

from juxtum.associate.fit import fit_circle, fit_cylinder, fit_plane, fit_sphere, inliers, without_outliers
from juxtum.associate.solve import Fit, gauss

__all__ = ["Fit", "fit_circle", "fit_cylinder", "fit_plane", "fit_sphere", "gauss", "inliers", "without_outliers"]
