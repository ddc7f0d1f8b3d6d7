"""Ends that stay where both of two mixed systems have them: a limb that stands, or holds on, while it is crossfaded.

Mixing joint by joint takes an end along an arc of its own. Here it goes straight from where the one system has it to where the other
does; where both hold the same place it does not move. The limb folds for that as two segments do, in the plane in which the mixed
joints bend, and turns as a whole along the shortest arc. Out of reach it stretches as far as it goes.
"""

from __future__ import annotations

import math

from .block import U, node_slot, place_at, put_at, turn_at, value_slot
from .rows import kind
from .scalars import add, axis_turn, cross, dot, norm, qconj, qmul, qrot, qunit, scale, shortest_arc, slerp, sub

#: Numbers of a row: integers node, the joint as it is mixed, what becomes of it (below); root, bend and end of the limb as they are
#: mixed, the end in the one and in the other system, channel of the share of the other; floats the hinge (3,) in the root.
INTS, FLOATS = 9, 3
#: A joint that is not of the limb, one up to where it bends, one from there on, the end and all that hangs from it.
BESIDE, UPPER, LOWER, END = 0, 1, 2, 3
#: What the hinge counts for beside the plane in which a limb bends: all where it is straight.
STRAIGHT = 1e-9
TINY = 1e-300


def held_joints(first_i, first_f, count, size, ints, floats, room):  # type: ignore[no-untyped-def]
    """Places joints of a limb whose end stays."""
    values, work = room.values, room.work
    for n in range(U(count)):
        i = U(first_i) + n * U(INTS)
        f = U(first_f) + n * U(FLOATS)
        own = node_slot(ints[i])
        mixed = node_slot(ints[i + U(1)])
        part = ints[i + U(2)]
        root = node_slot(ints[i + U(3)])
        bend = node_slot(ints[i + U(4)])
        end = node_slot(ints[i + U(5)])
        one = node_slot(ints[i + U(6)])
        other = node_slot(ints[i + U(7)])
        share = value_slot(ints[i + U(8)])
        hinge = (floats[f], floats[f + U(1)], floats[f + U(2)])
        for b in range(U(size)):
            p, q = place_at(work, mixed + b), turn_at(work, mixed + b)
            if part != BESIDE:
                w = values[share + b]
                start, middle, last = place_at(work, root + b), place_at(work, bend + b), place_at(work, end + b)
                goal = add(scale(place_at(work, one + b), 1.0 - w), scale(place_at(work, other + b), w))
                upper, lower, way = sub(middle, start), sub(last, middle), sub(goal, start)
                long, short, reach = norm(upper), norm(lower), norm(way)
                normal = cross(upper, lower)
                axis = add(normal, scale(qrot(turn_at(work, root + b), hinge), STRAIGHT * long * short))
                # None of these is zero, since segments have lengths; none divides by zero either.
                axis = scale(axis, 1.0 / (norm(axis) + TINY))
                bent = math.atan2(dot(normal, axis), dot(upper, lower))
                cosine = (reach * reach - long * long - short * short) / (2.0 * long * short + TINY)
                cosine = 1.0 if cosine > 1.0 else cosine
                cosine = -1.0 if cosine < -1.0 else cosine
                fold = axis_turn(axis, math.acos(cosine) - bent)
                folded = add(upper, qrot(fold, lower))
                turn = shortest_arc(scale(folded, 1.0 / (norm(folded) + TINY)), scale(way, 1.0 / (reach + TINY)), axis)
                if part == END:
                    there = slerp(turn_at(work, one + b), turn_at(work, other + b), w)
                    turned = qmul(there, qconj(turn_at(work, end + b)))
                    p = add(add(start, qrot(turn, folded)), qrot(turned, sub(p, last)))
                    q = qunit(qmul(turned, q))
                elif part == LOWER:
                    p = add(start, qrot(turn, add(upper, qrot(fold, sub(p, middle)))))
                    q = qunit(qmul(turn, qmul(fold, q)))
                else:
                    p = add(start, qrot(turn, sub(p, start)))
                    q = qunit(qmul(turn, q))
            put_at(work, own + b, p, q)


HELD = kind(held_joints)
