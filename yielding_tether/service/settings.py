"""What the environment may choose for the program, checked before anything else is done or loaded."""

from __future__ import annotations

import os
from typing import NamedTuple

PORT, WORKERS, KEY = "YIELDING_TETHER_PORT", "YIELDING_TETHER_WORKERS", "YIELDING_TETHER_KEY"
ADDRESS, MEMORY = "YIELDING_TETHER_DATABASE_URL", "YIELDING_TETHER_JOB_MEMORY"
#: Bytes that a worker may hold by default, and at least.
USUAL_MEMORY, LEAST_MEMORY = 2_000_000_000, 400_000_000


class Settings(NamedTuple):
    """`url`: of a database of the user's own, or None for the private cluster; `key`: that all requests must show, or ""."""

    port: int
    workers: int
    url: str | None
    key: str

    @staticmethod
    def read() -> Settings:
        """What the environment says. ValueError: what can't be used, and what can."""
        _number(MEMORY, USUAL_MEMORY, LEAST_MEMORY, 10**13 - 1, f"a number of bytes, {LEAST_MEMORY:,} at least")
        return Settings(
            _number(PORT, 8400, 1, 65535, "a number from 1 to 65535"),
            _number(WORKERS, 1, 1, 16, "a number from 1 to 16"),
            os.environ.get(ADDRESS),
            os.environ.get(KEY, ""),
        )


def job_memory() -> int:
    """Bytes that a worker may hold."""
    return int(os.environ.get(MEMORY, USUAL_MEMORY))


def _number(name: str, usual: int, least: int, most: int, words: str) -> int:
    said = os.environ.get(name, str(usual))
    if not (said.isascii() and said.isdigit() and len(said) < 14 and least <= int(said) <= most):
        raise ValueError(f"{name} is {said!r}: use {words}.")
    return int(said)
