"""A tree of joints over many times: from local transforms to the world and back."""

from __future__ import annotations

from .arrays import load3, load4
from .block import U
from .scalars import add, kernel, qconj, qmul, qrot, qunit, sub


@kernel
def to_world(parents, offsets, turns, pos, rot):  # type: ignore[no-untyped-def]
    """Fills pos (F, J, 3) and rot (F, J, 4) from local offsets and rotations; parents (J,), -1 for the root."""
    for f in range(offsets.shape[0]):
        for j in range(len(parents)):
            p = load3(offsets, f, U(j))
            q = load4(turns, f, U(j))
            up = parents[j]
            if up >= 0:
                r = load4(rot, f, U(up))
                p = add(load3(pos, f, U(up)), qrot(r, p))
                q = qmul(r, q)
            for k in range(3):
                pos[f, j, k] = p[k]
            for k in range(4):
                rot[f, j, k] = q[k]


@kernel
def to_local(parents, pos, rot, offsets, turns):  # type: ignore[no-untyped-def]
    """The inverse of `to_world`; rotations are of unit length."""
    for f in range(pos.shape[0]):
        for j in range(len(parents)):
            p = load3(pos, f, U(j))
            q = load4(rot, f, U(j))
            up = parents[j]
            if up >= 0:
                back = qconj(load4(rot, f, U(up)))
                p = qrot(back, sub(p, load3(pos, f, U(up))))
                q = qmul(back, q)
            q = qunit(q)
            for k in range(3):
                offsets[f, j, k] = p[k]
            for k in range(4):
                turns[f, j, k] = q[k]
