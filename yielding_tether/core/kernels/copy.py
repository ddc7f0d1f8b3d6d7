"""A node that stands where another stands: a root at its control."""

from __future__ import annotations

from .block import U, copy_node, node_slot
from .rows import kind


def copied_nodes(first_i, first_f, count, size, ints, floats, room):  # type: ignore[no-untyped-def]
    """Puts nodes where others stand. Integers of a row: node, and the one to copy."""
    for n in range(U(count)):
        i = U(first_i) + n * U(2)
        copy_node(room.work, node_slot(ints[i + U(1)]), room.work, node_slot(ints[i]), size)


COPY = kind(copied_nodes)
