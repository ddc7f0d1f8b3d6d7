"""Long work says how far it is, and ends when nobody wants it."""

from __future__ import annotations

import unittest

from tests.core.test_handover import demo
from yielding_tether.core.operations.bake import Bake, apply
from yielding_tether.core.program import Program
from yielding_tether.core.progress import Cancelled, advance, stage, watched
from yielding_tether.formats import bvh


def anew() -> Program:
    """The demo, of which nothing is remembered."""
    return Program(demo().scene, demo().take)


class Progress(unittest.TestCase):
    def test_stages_lie_within_one_another(self) -> None:
        told: list[tuple[float, str]] = []
        with watched(lambda done, doing: told.append((done, doing))):
            advance(0.1)
            with stage("outer", 0.2, 0.6):
                advance(0.5)
                with stage("inner", 0.5, 1.0):
                    advance(0.5)
                advance(1.0)
            advance(1.0)
        want = [(0.1, ""), (0.2, "outer"), (0.4, "outer"), (0.4, "inner"), (0.5, "inner"), (0.6, "outer"), (1.0, "")]
        self.assertEqual([d for _, d in told], [d for _, d in want])
        for (a, _), (b, _) in zip(told, want, strict=True):
            self.assertAlmostEqual(a, b)
        # Nobody watches any more.
        advance(0.0)
        self.assertEqual(len(told), len(want))

    def test_a_bake_and_a_file_go_forward_and_can_be_left_anywhere(self) -> None:
        def bake() -> object:
            return apply(anew(), Bake((("marl", "arm.L"), ("marl", "arm.R")), "ik", 10.0, 40.0))[0].curves

        def write() -> object:
            return bvh.write(anew(), "marl", 0, 204)

        # What the demo itself is made of is worked out once.
        anew()
        for work in (bake, write):
            told: list[float] = []
            with watched(lambda done, doing, told=told: told.append(done)):  # type: ignore[misc]
                whole = work()
            shares = [d for d in told if d > 0.0]
            self.assertTrue(shares)
            self.assertEqual(told, sorted(told), "it never goes back")
            self.assertLessEqual(max(told), 1.0)
            for leave in (0, len(told) // 3, len(told) - 1):
                count = 0

                def tell(done: float, doing: str, leave: int = leave) -> None:
                    nonlocal count
                    if count == leave:
                        raise Cancelled
                    count += 1

                with (
                    self.subTest(leave=leave, told=len(told), work=work.__name__),
                    self.assertRaises(Cancelled),
                    watched(tell),
                ):
                    work()
            self.assertEqual(work(), whole)


if __name__ == "__main__":
    unittest.main()
