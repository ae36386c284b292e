"""The tube library: one readable data file a type under ``data/``, and the fit that made its coefficients."""

from thermionic.tubes.fitting import Point, characteristics, errors, fit
from thermionic.tubes.library import Limits, TubeType, all_types, get

__all__ = ["Limits", "Point", "TubeType", "all_types", "characteristics", "errors", "fit", "get"]
