"""Prints figures as JSON lines, each timing beside a reference measured in the same run.

`python -m measures [name …]` makes the measurements whose names contain one of these words. How fast the machine is stands
before the first and after each: divide seconds by that to compare them with a bound.
"""

from __future__ import annotations

import platform
import sys

import numpy as np
import pinocchio as pin

from yielding_tether.core.program import Program
from yielding_tether.demo.cast_off import cast_off

from . import evaluation, faults, job, page, service, soak
from .figures import BY_NAME, MEASUREMENTS, say, speed

__all__ = ["evaluation", "faults", "job", "page", "service", "soak"]


def main() -> None:
    """Makes the measurements that the arguments name, or all that take no more than some minutes."""
    words, reference = sys.argv[1:], Program(*cast_off())

    def pace() -> None:
        took, times = speed(reference)
        say("speed of the machine", pin_microseconds=took, times_where_bounds_were_set=times)

    say("machine", python=platform.python_version(), numpy=np.__version__, pin=pin.__version__)
    pace()
    for name, work in MEASUREMENTS.items():
        if any(w in name for w in words) or (not words and name not in BY_NAME):
            work()
            pace()


if __name__ == "__main__":
    main()
