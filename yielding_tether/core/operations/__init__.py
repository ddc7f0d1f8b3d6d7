"""Operations: importing this package registers all that are files here."""

from __future__ import annotations

from importlib import import_module
from pkgutil import iter_modules

from . import crossfade, handover, keys, paste, pose, repair
from .operation import OPERATIONS, Asked, Chart, Choice, Line, Operation, Outcome, Step, run

for _module in iter_modules(__path__):
    import_module(f"{__name__}.{_module.name}")

__all__ = [
    "OPERATIONS", "Asked", "Chart", "Choice", "Line", "Operation", "Outcome", "Step", "crossfade", "handover", "keys", "paste",
    "pose", "repair", "run",
]  # fmt: skip
