"""The demo world: its people, its pieces, its takes, all made by rule.

Making the takes costs some seconds, so set-up makes them once and keeps them, named after the sources they were made by.
"""

from __future__ import annotations

import hashlib
import pickle
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from ..core.takes import Scene, Take

_PACKAGE = Path(__file__).resolve().parents[1]


def _kept() -> Path:
    """Where the takes made by exactly these sources are kept."""
    digest = hashlib.sha256()
    for folder in ("core", "demo"):
        for path in sorted((_PACKAGE / folder).rglob("*.py")):
            digest.update(path.read_bytes())
    return _PACKAGE.parent / ".cache" / "demo" / digest.hexdigest()[:16]


def scenes() -> list[tuple[Scene, list[Take]]]:
    """The demo scenes with their takes, the one of the first run last, as they were kept or made anew."""
    try:
        with _kept().open("rb") as file:
            found: list[tuple[Scene, list[Take]]] = pickle.load(file)
            return found
    except OSError:
        return _made()


def named(take: str) -> tuple[Scene, Take]:
    """The demo take of this name with its scene, as it was kept or made anew."""
    return next((scene, one) for scene, takes in scenes() for one in takes if one.name == take)


def keep() -> None:
    """Makes the demo scenes and keeps them for the next start."""
    path = _kept()
    if not path.exists():
        path.parent.mkdir(parents=True, exist_ok=True)
        beside = path.with_suffix(".new")
        # Without what a scene remembers of how it was worked with.
        beside.write_bytes(pickle.dumps([(replace(scene), takes) for scene, takes in _made()]))
        beside.replace(path)


def _made() -> list[tuple[Scene, Take]]:
    from .brindles_trot import brindles_trot
    from .cast_off import cast_off
    from .crate_and_rope import crate_and_rope
    from .hauling_in import hauling_in
    from .ladder import climbing
    from .lantern_round import lantern_round
    from .rough_crossing import rough_crossing
    from .tow_strap import tow_strap

    made = [crate_and_rope(), rough_crossing(), brindles_trot(), climbing(), tow_strap(), lantern_round(), cast_off()]
    alone = [(scene, [take]) for scene, take in made]
    return [*alone[:4], hauling_in(), *alone[4:]]
