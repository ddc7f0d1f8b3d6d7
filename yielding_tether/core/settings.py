"""Settings: figures of a part that fit it to a body, and are not animated: shares, set angles, where a sole is."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any, TypeVar

import numpy as np

from .channels import ROTATION, Kind
from .errors import CoreError
from .skeleton import Skeleton
from .systems.fk import turn_in
from .transforms import IDENTITY, inverse, multiply

if TYPE_CHECKING:
    from .parts import Part

T = TypeVar("T")
V = tuple[float, float, float]


@dataclass(frozen=True)
class Setting:
    """One figure of a part, between `least` and `most`. `at`: where it is in the part, names of fields and places in tuples
    ("shrug.past.0"). `along`: for places in `joint`, the direction in which they go, and the figure is how far; where several go
    together, the others change by as much as the first. `shared`: where all that are to be at most one in all are: the others give
    way."""

    id: str
    label: str
    kind: Kind
    least: float
    most: float
    at: tuple[str, ...]
    along: V | None = None
    shared: str = ""
    joint: str = ""

    def of(self, part: Part) -> float:
        """The figure of a part."""
        return self._read(_found(part, self.at[0]))

    def places(self, part: Part) -> tuple[V, ...]:
        """Where what it sets lies in its joint, metres; nothing of figures that are no places."""
        return tuple(_found(part, path) for path in self.at) if self.along else ()

    def reached(self, place: V) -> float:
        """The figure by which what it sets comes as far as a place in its joint (metres). CoreError where it sets no place, or
        where that is out of its limits."""
        if self.along is None:
            raise CoreError(f"{self.label} is no place that could be pointed at.")
        value = self._read(place)
        if not self.least <= value <= self.most:
            told = " to ".join(f"{1000.0 * x:.0f}" for x in (self.least, self.most))
            raise CoreError(f"{self.label} can't be {1000.0 * value:.4g} mm: its limits are {told} mm.")
        return value

    def put(self, part: T, value: float) -> T:
        """The part with another figure. CoreError where that is out of its limits."""
        if not self.least - 1e-9 <= value <= self.most + 1e-9:
            told = ", ".join(f"{x:g}" for x in (self.least, self.most))
            raise CoreError(f"{self.label} can't be {value:g}: its limits are {told}.")
        change = value - self.of(part)  # type: ignore[arg-type]
        for path in self.at:
            old = _found(part, path)
            new: Any = tuple((np.array(old) + change * self._unit).tolist()) if self.along else value
            part = _with(part, path.split("."), new)
        if self.shared:
            mine = int(self.at[0].rpartition(".")[2])
            others = sum(x for k, x in enumerate(_found(part, self.shared)) if k != mine)
            less = min(1.0, (1.0 - value) / others) if others > 0.0 else 1.0
            kept = tuple(x if k == mine else x * less for k, x in enumerate(_found(part, self.shared)))
            part = _with(part, self.shared.split("."), kept)
        return part

    @property
    def _unit(self) -> np.ndarray:
        found: np.ndarray = np.array(self.along) / np.linalg.norm(np.array(self.along))
        return found

    def _read(self, found: Any) -> float:
        return float(found if self.along is None else np.array(found) @ self._unit)


def _found(thing: Any, path: str) -> Any:
    for step in path.split("."):
        thing = thing[int(step)] if isinstance(thing, tuple) else getattr(thing, step)
    return thing


def _with(thing: Any, path: list[str], value: Any) -> Any:
    step, rest = path[0], path[1:]
    if isinstance(thing, tuple):
        k = int(step)
        return (*thing[:k], _with(thing[k], rest, value) if rest else value, *thing[k + 1 :])
    return replace(thing, **{step: _with(getattr(thing, step), rest, value) if rest else value})


def turned(skeleton: Skeleton, orders: Mapping[str, str], joint: str, axis: V, angle: float) -> dict[str, float]:
    """FK channels (control.channel) that turn a joint at rest by an angle (radians) about an axis in what it hangs from;
    orders: rotation order by joint."""
    rest = np.array(skeleton.joints[skeleton.index[joint]].rest)
    unit = np.array(axis) / np.linalg.norm(axis)
    turn = np.array([*(np.sin(0.5 * angle) * unit), np.cos(0.5 * angle)])
    own = multiply(multiply(inverse(rest), turn), rest)
    values = turn_in(own[None], np.array([IDENTITY]), orders[joint], np.zeros(3))[:, 0]
    return {f"{joint}.{name}": float(v) for name, v in zip(ROTATION, values, strict=True)}
