"""Yielding Tether: hand limbs over between IK and FK without pose pops, and prove it."""

from __future__ import annotations

import hashlib
import os
from pathlib import Path


def _kernel_cache() -> str:
    """Folder of the compiled kernels of exactly these sources.

    Numba notices a change in the file of a kernel, but not in the files of the kernels it calls; a folder named
    after all of them together can't be stale.
    """
    here = Path(__file__).parent
    digest = hashlib.sha256()
    for path in sorted((here / "core" / "kernels").glob("*.py")):
        digest.update(path.read_bytes())
    return str(here.parent / ".cache" / "kernels" / digest.hexdigest()[:16])


os.environ.setdefault("NUMBA_CACHE_DIR", _kernel_cache())
# LLVM's second level: kernels are as fast as with its third, and a seventh less work to compile.
os.environ.setdefault("NUMBA_OPT", "2")
