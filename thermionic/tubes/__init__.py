"""The tube library: one readable data file a type under ``data/``, and the fit that made its coefficients."""

from thermionic.tubes.fitting import Point, characteristics, errors, fit
from thermionic.tubes.library import Limits, TubeType, all_types, get
from thermionic.tubes.stages import PublishedStage, StageResult, solve_stage

__all__ = [
    "Limits",
    "Point",
    "PublishedStage",
    "StageResult",
    "TubeType",
    "all_types",
    "characteristics",
    "errors",
    "fit",
    "get",
    "solve_stage",
]
