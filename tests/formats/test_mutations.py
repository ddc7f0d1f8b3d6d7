"""Thousands of mutated capture files: a clear error or a sound take, in bounded time and memory, nothing left behind."""

from __future__ import annotations

import re
import resource
import time
import unittest

import numpy as np

from tests.depth import DEPTH
from tests.formats.test_bvh import written
from yielding_tether.core.errors import CoreError
from yielding_tether.core.program import Program
from yielding_tether.core.takes import Scene
from yielding_tether.formats import FormatError, bvh

#: 10,000 with DEPTH=4.
COUNT = 2_500 * DEPTH
_WORDS = [b"nan", b"inf", b"-1e400", b"1e308", b"0x10", b"1_0", b"{", b"}", b"ROOT", b"JOINT x", b"End Site", b"OFFSET",
          b"CHANNELS 6", b"CHANNELS 99999999", b"MOTION", b"Frames: 999999999", b"Frame Time: 0", b"\x00", b"\xff\xfe",
          "é".encode(), b"9" * 400, b"-", b".", b"\t\t", b"\r"]  # fmt: skip


def mutated(rng: np.random.Generator, base: bytes) -> bytes:
    data = bytearray(base)
    for _ in range(rng.choice([1, 1, 1, 2, 4])):
        at = int(rng.integers(max(len(data), 1)))
        kind = rng.choice(8, p=[0.1, 0.4, 0.1, 0.1, 0.1, 0.1, 0.08, 0.02])
        if kind == 0:
            data[at : at + 1] = bytes([int(rng.integers(256))])
        elif kind == 1:
            # A digit for a digit most often: files that read, with other numbers in them.
            digits = [k for k in range(at, min(at + 40, len(data))) if 48 <= data[k] < 58]
            at = digits[0] if digits and rng.random() < 0.8 else at
            data[at : at + 1] = bytes([int(rng.choice(list(b"0123456789.-eE")))])
        elif kind == 2:
            del data[at : at + int(rng.integers(1, 60))]
        elif kind == 3:
            data[at:at] = data[int(rng.integers(len(data) or 1)) :][: int(rng.integers(1, 80))]
        elif kind == 4:
            data[at:at] = b" " + _WORDS[int(rng.integers(len(_WORDS)))] + b" "
        elif kind == 5:
            lines = bytes(data).split(b"\n")
            i, j = (int(k) for k in rng.integers(len(lines), size=2))
            lines[i], lines[j] = lines[j], lines[i]
            data = bytearray(b"\n".join(lines))
        elif kind == 6:
            words = list(re.finditer(rb"\S+", bytes(data)))
            if words:
                w = words[int(rng.integers(len(words)))]
                data[w.start() : w.end()] = _WORDS[int(rng.integers(len(_WORDS)))]
        else:
            del data[at:]
    return bytes(data)


class Mutations(unittest.TestCase):
    def test_each_gives_a_clear_error_or_a_sound_take(self) -> None:
        rng = np.random.default_rng(60)
        bases = [
            written(rng, frames=3)[0].encode(), written(rng, frames=2, gap="\t", end="\r\n", scale=0.01)[0].encode(),
            b"HIERARCHY\nROOT a\n{\nOFFSET 0 0 0\nCHANNELS 3 Xrotation Yrotation Zrotation\nJOINT b\n{\nOFFSET 0 9 0\n"
            b"CHANNELS 3 Xrotation Yrotation Zrotation\nEnd Site\n{\nOFFSET 0 3 0\n}\n}\n}\nMOTION\nFrames: 2\n"
            b"Frame Time: 0.04\n1 2 3 4 5 6\n2 3 4 5 6 7\n",
        ]  # fmt: skip
        outcomes = {"read": 0, "refused": 0}
        slowest = 0.0
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        for n in range(COUNT):
            data = mutated(rng, bases[n % len(bases)])
            began = time.process_time()
            try:
                read = bvh.read(data, "body", "m")
            except FormatError as error:
                self.assertGreater(len(str(error)), 10)
                outcomes["refused"] += 1
            except CoreError as error:
                self.assertGreater(len(str(error)), 10)
                outcomes["refused"] += 1
            else:
                outcomes["read"] += 1
                capture = read.take.captures["body"]
                self.assertTrue(np.isfinite(capture.rotations).all() and np.isfinite(capture.offsets).all())
                np.testing.assert_allclose(np.linalg.norm(capture.rotations, axis=-1), 1.0, atol=1e-9)
                if n % 20 == 0:
                    program = Program(Scene("m", (read.member,)), read.take)
                    self.assertTrue(np.isfinite(program.evaluate([0.0, 0.5, 1.0]).pos).all())
            slowest = max(slowest, time.process_time() - began)
        self.assertGreater(min(outcomes.values()), COUNT // 20, outcomes)
        # Bounds of another kind than speed: nothing hangs, nothing eats the machine's memory.
        self.assertLess(slowest, 20.0)
        self.assertLess(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before, 400_000)
