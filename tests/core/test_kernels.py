"""The kinds of rows: their loops over times stay packed, and each is called with what it asks for."""

from __future__ import annotations

import re
import unittest

from numba import njit

from yielding_tether.core.kernels import block, follow, joint, lead, n_segment, share, shoulder, two_segment
from yielding_tether.core.kernels.rows import SIGNATURE, addresses, function_of, kind
from yielding_tether.core.kernels.scalars import OPTIONS

#: Multiplications of several numbers at once, whatever the width of the machine's registers.
PACKED = re.compile(r"\b(?:v?mulpd|vfn?m(?:add|sub)\d*pd|fmul\s+v\d+\.2d|fml[as]\s+v\d+\.2d)\b")


def packed(number: int) -> int:
    """Packed multiplications in the machine code of a kind's function."""
    # What comes from the cache can't be read: it is compiled once more.
    fresh = njit(**{**OPTIONS, "cache": False})(function_of(number).py_func)
    fresh.compile(SIGNATURE)
    (text,) = fresh.inspect_asm().values()
    return len(PACKED.findall(text))


class Packed(unittest.TestCase):
    def test_the_hot_loops_work_several_times_at_once(self) -> None:
        """A scalar loop has none: one array too many that may overlap, and the compiler gives up without a word."""
        for number, least in (
            (joint.JOINT, 50), (follow.CONTROL, 60), (two_segment.LIMB, 250), (n_segment.CHAIN, 400), (lead.LED, 120),
            (follow.CONTROL_MIXED, 120), (follow.JOINT_FOLLOWING, 100), (shoulder.SHOULDER, 150), (share.SHARE, 90),
        ):  # fmt: skip
            with self.subTest(kind=number):
                self.assertGreaterEqual(packed(number), least)

    def test_a_loop_with_branches_is_told(self) -> None:
        def branching(first_i, first_f, count, size, ints, floats, room):  # type: ignore[no-untyped-def]
            for b in range(size):
                x = room.work[b]
                while x > 1.0:
                    x = x * 0.5
                room.work[b] = x

        self.assertEqual(packed(kind(branching)), 0)


class Kinds(unittest.TestCase):
    def test_a_new_kind_has_an_address_at_once(self) -> None:
        before = len(addresses())

        def nothing(first_i, first_f, count, size, ints, floats, room):  # type: ignore[no-untyped-def]
            room.times[0] = size

        number = kind(nothing)
        self.assertEqual(number, before)
        self.assertEqual(len(addresses()), before + 1)
        self.assertNotIn(0, addresses().tolist())
        self.assertEqual(block.BLOCK % 8, 0)
