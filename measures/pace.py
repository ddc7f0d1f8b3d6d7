"""How fast the machine is while something else runs: `python -m measures.pace` says it every few seconds until its input
ends, and so with whoever asked, however that ended.

    times as slow as where bounds in seconds were set, seconds that the host took from all cores so far
"""

from __future__ import annotations

import os
import select
import sys
from pathlib import Path

from yielding_tether.core.program import Program
from yielding_tether.demo.cast_off import cast_off

from .figures import speed

#: Seconds between two looks.
EVERY = 4.0


def stolen() -> float:
    """Seconds that the host of a virtual machine has taken from all of its cores (proc(5), stat: steal)."""
    return float(Path("/proc/stat").read_text().split()[8]) / os.sysconf("SC_CLK_TCK")


def main() -> None:
    program, wanted = Program(*cast_off()), True
    while wanted:
        print(speed(program, 6)[1], stolen(), flush=True)
        wanted = not select.select([sys.stdin], [], [], EVERY)[0]


if __name__ == "__main__":
    main()
