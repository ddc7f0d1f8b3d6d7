"""Runs rows over blocks of times, each time by itself, one call for all.

A *run* is a kind, where its rows begin among the integers and the floats of the tape, and how many there are. Every kind
has a file with its rows and its function (see `rows`), which is called once a run and block.
"""

from __future__ import annotations

from typing import NamedTuple

from ..transforms import Floats, Ints
from .block import BLOCK, NODE_ROWS, U, node_slot, value_slot
from .rows import call
from .sample import halve, in_order, sample_row
from .scalars import freely, written


class Curves(NamedTuple):
    """Packed curves and, by span, which of them count: `keyed` holds rows of `starts`, `channels` the channel of each
    row; `turning` the Euler angles to halve. `over` (K,) channels whose values are put in place of those of the curves,
    `forced` (K, F), and `standing` (K,) the values they have otherwise; `spun`: those of them that are Euler angles."""

    starts: Ints
    cubics: Floats
    channels: Ints
    keyed: Ints
    turning: Ints
    over: Ints
    forced: Floats
    standing: Floats
    spun: Ints


#: Times that are handed over at once: as many numbers as a line of the cache holds, so that each line is read once.
TILE = 8


@written
def copy_out(frames, start, size, nodes, into, work, pos, rot):  # type: ignore[no-untyped-def]
    """Hands a block over: pos (F, N, 3) and rot (F, N, 4) of these nodes at its times, in the columns `into`."""
    for tile in range(U(0), U(size), U(TILE)):
        end = tile + U(TILE) if tile + U(TILE) < U(size) else U(size)
        for k in range(U(len(nodes))):
            o = node_slot(U(nodes[k]))
            n = U(into[k])
            for b in range(tile, end):
                f = U(frames[U(start) + b])
                pos[f, n, U(0)] = work[o + b]
                pos[f, n, U(1)] = work[o + b + U(BLOCK)]
                pos[f, n, U(2)] = work[o + b + U(2 * BLOCK)]
                rot[f, n, U(0)] = work[o + b + U(3 * BLOCK)]
                rot[f, n, U(1)] = work[o + b + U(4 * BLOCK)]
                rot[f, n, U(2)] = work[o + b + U(5 * BLOCK)]
                rot[f, n, U(3)] = work[o + b + U(6 * BLOCK)]


@freely
def run(room, lo, hi, kinds, spans, frames, runs, nodes, into, at, side, curves, joints, captured, still, stood, ints, floats, pos, rot, sizes):  # type: ignore[no-untyped-def]  # fmt: skip
    """Fills pos (F, N, 3) and rot (F, N, 4), columns `into`, with `nodes` and sizes (F, S) of the slots at the times at (F,), sides side (F,).

    lo, hi: first and end in frames of what of it is done; kinds: addresses of the kinds' functions (`rows.addresses`); spans: (G, 8)
    groups of times with one order of rows: first and end in frames (F,), which holds rows of times, in runs (R, 4), in curves.keyed
    and in curves.turning; captured (7 K, F): captured joints (K,) at these times; stood (7 G, F): nodes `still` (G,) that no row
    places.
    """
    values, waves, times, late = room.values, room.waves, room.times, room.late
    for g in range(len(spans)):
        begin = spans[g, 0] if spans[g, 0] > lo else lo
        end = spans[g, 1] if spans[g, 1] < hi else hi
        for block in range(begin, end, BLOCK):
            size = BLOCK if block + BLOCK < end else end - block
            for b in range(U(size)):
                f = frames[U(block) + b]
                times[b] = at[f]
                late[b] = side[f]
            rising = in_order(times, size)
            for k in range(spans[g, 4], spans[g, 5]):
                row = curves.keyed[k]
                sample_row(
                    curves.starts[row], curves.starts[row + 1], curves.cubics, times, late, size, rising, values,
                    value_slot(curves.channels[row]),
                )  # fmt: skip
            for k in range(len(curves.over)):
                o = value_slot(curves.over[k])
                for b in range(U(size)):
                    values[o + b] = curves.forced[k, frames[U(block) + b]]
            for n in range(len(joints)):
                o = node_slot(joints[n])
                for r in range(U(NODE_ROWS)):
                    for b in range(U(size)):
                        room.captures[o + value_slot(r) + b] = captured[U(NODE_ROWS) * U(n) + r, frames[U(block) + b]]
            for n in range(len(still)):
                o = node_slot(still[n])
                for r in range(U(NODE_ROWS)):
                    for b in range(U(size)):
                        room.work[o + value_slot(r) + b] = stood[U(NODE_ROWS) * U(n) + r, frames[U(block) + b]]
            halve(values, curves.turning, U(spans[g, 6]), U(spans[g, 7]), U(size), waves)
            halve(values, curves.spun, U(0), U(len(curves.spun)), U(size), waves)
            # A run at a time over the block: what its rows say is read once, and its times wait for no other.
            for s in range(spans[g, 2], spans[g, 3]):
                call(kinds[runs[s, 0]], runs[s, 1], runs[s, 2], runs[s, 3], size, ints, floats, room)  # type: ignore[call-arg]
            copy_out(frames, block, size, nodes, into, room.work, pos, rot)
            for k in range(sizes.shape[1]):
                for b in range(U(size)):
                    sizes[frames[U(block) + b], k] = room.sizes[value_slot(k) + b]
    # The room is used again: nothing of what was put in place of the curves may stay.
    for k in range(len(curves.over)):
        o = value_slot(curves.over[k])
        for b in range(U(BLOCK)):
            values[o + b] = curves.standing[k]
    halve(values, curves.spun, U(0), U(len(curves.spun)), U(BLOCK), waves)
