"""The tube library: one readable data file a type under ``data/``, and the fits that made its coefficients."""

from thermionic.tubes.fitting import Fit, fit, fit_pentode, fit_points, fit_rectifier
from thermionic.tubes.fitting_in import differences
from thermionic.tubes.library import TubeType, Unit, all_types, read_unit, types_with
from thermionic.tubes.limits import Limits
from thermionic.tubes.naming import get, library_names
from thermionic.tubes.points import (
    Cutoff,
    Drop,
    GridCurrent,
    Point,
    characteristics,
    cutoff_ratio,
    drop_error,
    errors,
    read_points,
)
from thermionic.tubes.reading_fits import read_fit
from thermionic.tubes.stages import (
    OutputResult,
    OutputStage,
    PublishedStage,
    StageResult,
    solve_output,
    solve_stage,
)

__all__ = [
    "Cutoff",
    "Drop",
    "Fit",
    "GridCurrent",
    "Limits",
    "OutputResult",
    "OutputStage",
    "Point",
    "PublishedStage",
    "StageResult",
    "TubeType",
    "Unit",
    "all_types",
    "characteristics",
    "cutoff_ratio",
    "differences",
    "drop_error",
    "errors",
    "fit",
    "fit_pentode",
    "fit_points",
    "fit_rectifier",
    "get",
    "library_names",
    "read_fit",
    "read_points",
    "read_unit",
    "solve_output",
    "solve_stage",
    "types_with",
]
