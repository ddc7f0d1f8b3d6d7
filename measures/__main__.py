"""Prints figures as JSON lines, each timing beside a reference measured in the same run.

`python -m measures [name …]` makes the measurements whose names contain one of these words.
"""

from __future__ import annotations

import platform
import sys

import numpy as np
import pinocchio as pin

from . import evaluation, faults, job, page, service, soak
from .figures import BY_NAME, MEASUREMENTS, say

__all__ = ["evaluation", "faults", "job", "page", "service", "soak"]


def main() -> None:
    """Makes the measurements that the arguments name, or all that take no more than some minutes."""
    words = sys.argv[1:]
    say("machine", python=platform.python_version(), numpy=np.__version__, pin=pin.__version__)
    for name, work in MEASUREMENTS.items():
        if any(w in name for w in words) or (not words and name not in BY_NAME):
            work()


if __name__ == "__main__":
    main()
