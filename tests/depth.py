"""How deep random tests go: once by default, DEPTH=20 for a long look with other seeds besides."""

from __future__ import annotations

import os

DEPTH = max(1, int(os.environ.get("DEPTH", "1")))
