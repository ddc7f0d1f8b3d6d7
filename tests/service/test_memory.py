"""What the service keeps is bounded by bytes, and what is not asked for is given up."""

from __future__ import annotations

import asyncio
import time
import unittest
from unittest.mock import patch

import numpy as np
from starlette.types import Message, Send

from tests.core.test_handover import demo
from yielding_tether.core.cores import CORES
from yielding_tether.core.program import Program
from yielding_tether.service import quiet, studio
from yielding_tether.service.studio import MOST_BYTES, Recent, held_by


class Bytes(unittest.TestCase):
    def test_the_newest_are_kept_as_far_as_they_fit(self) -> None:
        recent: Recent[int, tuple[int, int]] = Recent(10, lambda v: {v[0]: v[1]})
        for k in range(8):
            recent.put(k, (k, MOST_BYTES // 3))
        self.assertEqual([k for k in range(8) if recent.get(k)], [5, 6, 7])
        # One that is looked at goes last.
        recent.get(5)
        recent.put(8, (8, MOST_BYTES // 3))
        self.assertEqual([k for k in range(9) if recent.get(k)], [5, 7, 8])
        # However large, the newest is kept.
        recent.put(9, (9, 3 * MOST_BYTES))
        self.assertEqual([k for k in range(10) if recent.get(k)], [9])

    def test_what_several_hold_counts_once(self) -> None:
        recent: Recent[int, int] = Recent(10, lambda v: {0: MOST_BYTES - 1000, v: 10})
        for k in range(1, 20):
            recent.put(k, k)
        self.assertEqual([k for k in range(20) if recent.get(k)], list(range(10, 20)))

    def test_a_take_holds_its_curves_and_captures(self) -> None:
        program = Program(demo().scene, demo().take)
        held = held_by(program)
        curves = sum(c.numbers.nbytes + c.marks.nbytes for c in program.take.curves.values())
        self.assertGreaterEqual(sum(held.values()), 3 * curves)
        other = held_by(program.with_curves({}))
        self.assertEqual({k for k in held if k not in other}, {id(program)})
        program.evaluate(np.linspace(0.0, 100.0, 1000))
        self.assertEqual(len(program._rooms), CORES)
        self.assertGreater(studio.ROOM, sum(a.nbytes for _, room in program._rooms.values() for a in room))


class Stillness(unittest.TestCase):
    def test_free_memory_goes_back_once_when_all_is_quiet(self) -> None:
        given: list[float] = []

        async def app(scope: object, receive: object, send: Send) -> None:
            await send({"type": "http.response.start"})

        async def sent(message: Message) -> None:
            pass

        with patch.object(quiet, "QUIET", 0.8):
            watched = quiet.Quiet(app)  # type: ignore[arg-type]
            watched._trim = lambda _: given.append(time.monotonic())
            time.sleep(1.3)
            self.assertEqual(given, [], "nothing was asked for yet")
            for rounds in (1, 2):
                for _ in range(8):
                    asyncio.run(watched({"type": "http"}, None, sent))  # type: ignore[arg-type]
                    last = time.monotonic()
                    time.sleep(0.02)
                self.assertEqual(len(given), rounds - 1, "not while something is asked for")
                time.sleep(2.5)
                self.assertEqual(len(given), rounds)
                self.assertGreater(given[-1], last + 0.8)


if __name__ == "__main__":
    unittest.main()
