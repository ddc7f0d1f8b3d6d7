"""Operations: importing this package registers them all; a new one is a file here and a line below."""

from __future__ import annotations

from . import crossfade, handover, keys, paste, pose, repair
from .operation import OPERATIONS, Asked, Choice, Operation, Outcome, run

__all__ = [
    "OPERATIONS", "Asked", "Choice", "Operation", "Outcome", "crossfade", "handover", "keys", "paste", "pose", "repair", "run"
]  # fmt: skip
