"""Skeletons: joints in order from the root, each with its rest place in its parent."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from .errors import CoreError
from .transforms import Floats, multiply, rotate


@dataclass(frozen=True)
class Joint:
    """A joint: `offset` (metres) and `rest` (unit quaternion x y z w) place it in its parent at rest. `tip`:
    where a last joint ends, in itself (metres), if that is known."""

    name: str
    parent: int
    offset: tuple[float, float, float]
    rest: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 1.0)
    tip: tuple[float, float, float] | None = None


@dataclass(frozen=True)
class Skeleton:
    """A tree of joints; a parent always comes before its children, and the first joint is the only root.

    CoreError names the joint that breaks this, a name used twice, or a number that is not finite.
    """

    joints: tuple[Joint, ...]

    def __post_init__(self) -> None:
        if not self.joints:
            raise CoreError("A skeleton needs at least one joint.")
        seen: set[str] = set()
        for i, joint in enumerate(self.joints):
            if joint.name in seen:
                raise CoreError(f"Two joints are called {joint.name}: give each a name of its own.")
            seen.add(joint.name)
            if (joint.parent < 0) != (i == 0) or joint.parent >= i:
                raise CoreError(f"Joint {joint.name} must come after its parent, and only the first is a root.")
            if not np.isfinite([*joint.offset, *joint.rest]).all():
                raise CoreError(f"The rest place of joint {joint.name} is not finite.")
            if abs(np.linalg.norm(joint.rest) - 1.0) > 1e-9:
                raise CoreError(f"The rest rotation of joint {joint.name} is not a unit quaternion.")

    def __len__(self) -> int:
        return len(self.joints)

    @cached_property
    def index(self) -> dict[str, int]:
        return {joint.name: i for i, joint in enumerate(self.joints)}

    @cached_property
    def parents(self) -> tuple[int, ...]:
        return tuple(joint.parent for joint in self.joints)

    @cached_property
    def offsets(self) -> Floats:
        """(J, 3) rest offsets in metres."""
        return np.array([joint.offset for joint in self.joints])

    @cached_property
    def rests(self) -> Floats:
        """(J, 4) rest rotations."""
        return np.array([joint.rest for joint in self.joints])

    @cached_property
    def centre(self) -> int:
        """The joint from which the body branches: the first that has not exactly one joint below."""
        j = 0
        while len(below := [k for k, p in enumerate(self.parents) if p == j]) == 1:
            j = below[0]
        return j if below else 0

    @cached_property
    def rest_pose(self) -> tuple[Floats, Floats]:
        """World positions (J, 3) and rotations (J, 4) at rest."""
        return self.pose(self.offsets, self.rests)

    def pose(self, offsets: Floats, rotations: Floats) -> tuple[Floats, Floats]:
        """World positions (…, J, 3) and rotations (…, J, 4) of local offsets and rotations.

        The readable form of forward kinematics; the kernels of `systems` are the quick one.
        """
        positions = np.array(offsets, dtype=float)
        turned = np.array(rotations, dtype=float)
        for j, parent in enumerate(self.parents):
            if parent >= 0:
                up = turned[..., parent, :]
                positions[..., j, :] = positions[..., parent, :] + rotate(up, positions[..., j, :])
                turned[..., j, :] = multiply(up, turned[..., j, :])
        return positions, turned

    def descendants(self, joint: int) -> set[int]:
        """A joint with all that hangs from it."""
        found = {joint}
        for j, parent in enumerate(self.parents):
            if parent in found:
                found.add(j)
        return found
