"""The kinds of block, one a file. A file put here is a kind that can be designed with; nothing lists them."""

from importlib import import_module
from pkgutil import iter_modules

for _module in iter_modules(__path__):
    import_module(f"{__name__}.{_module.name}")
