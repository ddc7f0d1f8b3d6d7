"""Captures as the world has them: encodings, comments, wrapped rows, whole roots, chosen axes and units, further takes."""

from __future__ import annotations

import tracemalloc
import unittest
from dataclasses import replace

import numpy as np

from yielding_tether.core.errors import CoreError
from yielding_tether.core.program import Program
from yielding_tether.core.takes import Scene
from yielding_tether.formats import FormatError, bvh

from .test_bvh import written


def parts_of(text: str) -> tuple[str, str, list[str]]:
    """Everything before the frame time, its line, the rows."""
    head, _, body = text.partition("Frame Time")
    line, _, rows = body.partition("\n")
    return head, "Frame Time" + line, rows.splitlines()


class Encodings(unittest.TestCase):
    def same(self, data: bytes, text: str) -> bvh.Imported:
        want = bvh.read(text.encode(), "body", "capture")
        got = bvh.read(data, "body", "capture")
        (a,), (b,) = got.take.captures.values(), want.take.captures.values()
        np.testing.assert_array_equal(a.rotations, b.rotations)
        np.testing.assert_array_equal(a.offsets, b.offsets)
        self.assertEqual(got.member.skeleton, want.member.skeleton)
        return got

    def test_marks_and_wide_characters(self) -> None:
        text = written(np.random.default_rng(1))[0]
        for data in (
            text.encode("utf-8-sig"), text.encode("utf-16"), b"\xfe\xff" + text.encode("utf-16-be"), text.encode("utf-16-le"),
            text.encode("utf-16-be"), text.encode() + b"\x1a", text.encode() + b"\r\n\x1a\r\n", text.encode() + b"\0\0",
        ):  # fmt: skip
            self.same(data, text)

    def test_comments_and_wrapped_rows(self) -> None:
        text = written(np.random.default_rng(2), frames=12)[0]
        head, time, rows = parts_of(text)
        width = len(rows[0].split())
        for cut in (1, 7, width - 1):
            wrapped = [" ".join(r.split()[k : k + cut]) for r in rows for k in range(0, width, cut)]
            self.same("\n".join([head + time, *wrapped, ""]).encode(), text)
        noted = head.replace("OFFSET", "OFFSET", 1).replace("\nMOTION", "\n# the motion\nMOTION")
        noted = "# made by hand\n" + noted.replace("CHANNELS", "// six or three\nCHANNELS", 1)
        told = [rows[0] + "  # first", "// a word", *rows[1:]]
        self.same("\n".join([noted + time + " # seconds", *told, ""]).encode(), text)

    def test_a_row_that_lacks_a_number_is_still_refused_with_its_line(self) -> None:
        text = written(np.random.default_rng(3), frames=9)[0]
        head, time, rows = parts_of(text)
        rows[4] = " ".join(rows[4].split()[:-1])
        line = len((head + time).splitlines()) + 5
        with self.assertRaises(FormatError) as caught:
            bvh.read("\n".join([head + time, *rows, ""]).encode(), "body", "capture")
        self.assertEqual(caught.exception.line, line)
        for bad, where in (("1e999", 2), ("nan", 3), ("1_0", 0), ("x", 1)):
            broken = list(parts_of(text)[2])
            broken[where] = " ".join([bad, *broken[where].split()[1:]])
            with self.assertRaises(FormatError) as caught:
                bvh.read("\n".join([head + time, *broken, ""]).encode(), "body", "capture")
            self.assertEqual((caught.exception.line, caught.exception.token), (line - 4 + where, bad))


class Bounds(unittest.TestCase):
    """What would take much time or memory is refused with its figure, before anything is made for it."""

    head = (
        b"HIERARCHY\nROOT %b\n{\nOFFSET 0 0 0\nCHANNELS 3 Xrotation Yrotation Zrotation\n%bEnd Site\n{\nOFFSET 0 1 0\n}\n}\n"
        b"MOTION\nFrames: 2\nFrame Time: 0.04\n0 0 0\n0 0 0\n%b"
    )

    def refused(self, data: bytes, words: str, most: int) -> None:
        tracemalloc.start()
        with self.assertRaisesRegex(FormatError, words):
            bvh.read(data, "body", "capture")
        peak = tracemalloc.get_traced_memory()[1]
        tracemalloc.stop()
        self.assertLess(peak, most + 8 * len(data), words)

    def test_a_name_of_spaces_is_read_in_one_go(self) -> None:
        """A pattern that tries every way to part the spaces would be here for hours."""
        read = bvh.read(self.head % (b"a" + b" " * 400_000 + b"b", b"", b""), "body", "capture")
        self.assertEqual(read.member.skeleton.joints[0].name, "a" + " " * 400_000 + "b")

    def test_more_than_can_be_held_is_told_with_its_figure(self) -> None:
        joints = b"".join(b"JOINT j%d\n{\nOFFSET 0 1 0\n" % k for k in range(999)) + b"}\n" * 999
        chain = b"HIERARCHY\nROOT a\n{\nOFFSET 0 0 0\nCHANNELS 1 Xrotation\n" + joints
        chain += b"}\nMOTION\nFrames: 20000\nFrame Time: 0.04\n" + b"0\n" * 20_000
        self.refused(chain, r"1,000 joints over 20,000 frames take 1,120 MB, more than the 256 MB", 20_000_000)
        self.refused(
            self.head % (b"a", b"End Site\n{\nOFFSET 0 1 0\n}\n" * 30_000, b""),
            "more than 10,000 End Sites",
            20_000_000,
        )
        self.refused(
            self.head % (b"a", b"", b"0 " * 2_000_000), "this row of motion has 3,999,999 characters", 1_000_000
        )
        self.refused(self.head % (b"a", b"", b"\x1c" * 2_500_000), "it has 2,500,0.. lines", 1_000_000)


class Choices(unittest.TestCase):
    def test_units_can_be_chosen(self) -> None:
        text = written(np.random.default_rng(4))[0]
        sizes = {}
        for unit in bvh.UNITS:
            read = bvh.read(text.encode(), "body", "capture", unit)
            self.assertIn(f"Read as {unit}.", read.notes)
            sizes[unit] = float(np.ptp(read.member.skeleton.rest_pose[0][:, 1]))
        self.assertAlmostEqual(sizes["feet"] / sizes["inches"], 12.0, places=9)
        self.assertAlmostEqual(sizes["decimetres"] / sizes["centimetres"], 10.0, places=9)
        with self.assertRaisesRegex(FormatError, "unknown unit 'ells'"):
            bvh.read(text.encode(), "body", "capture", "ells")

    def test_the_upward_axis_can_be_chosen(self) -> None:
        text = written(np.random.default_rng(5))[0]
        plain = bvh.read(text.encode(), "body", "capture", None, "y").member.skeleton.rest_pose[0]
        stood = bvh.read(text.encode(), "body", "capture", None, "z").member.skeleton.rest_pose[0]
        np.testing.assert_allclose(stood, plain[:, [0, 2, 1]] * [1, 1, -1], atol=1e-12)
        with self.assertRaisesRegex(FormatError, "unknown upward axis 'x'"):
            bvh.read(text.encode(), "body", "capture", None, "x")

    def test_a_root_whose_places_are_whole_is_noticed(self) -> None:
        text = written(np.random.default_rng(6), frames=10)[0]
        head, time, rows = parts_of(text)
        lines = head.splitlines()
        offset = np.array(next(line for line in lines if "OFFSET" in line).split()[1:], dtype=float)
        columns = next(line for line in lines if "CHANNELS" in line).split()[2:]
        stands = bvh.read(text.encode(), "body", "capture")
        (cap,) = stands.take.captures.values()
        table = np.array([[float(w) for w in r.split()] for r in rows])
        for k, name in enumerate(columns):
            if name.endswith("position"):
                table[:, k] += offset["XYZ".index(name[0])]
        made = [" ".join(f"{v:.9e}" for v in r) for r in table]
        whole = bvh.read("\n".join([head + time, *made, ""]).encode(), "body", "capture")
        (got,) = whole.take.captures.values()
        np.testing.assert_allclose(got.offsets[:, 0], cap.offsets[:, 0], atol=1e-6)
        self.assertTrue(any("read as whole" in n for n in whole.notes), whole.notes)
        self.assertFalse(any("read as whole" in n for n in stands.notes))


class FurtherTakes(unittest.TestCase):
    def test_a_capture_of_the_same_skeleton_is_a_take_of_it_in_any_order_of_joints(self) -> None:
        first = bvh.read(written(np.random.default_rng(7))[0].encode(), "body", "one")
        second = bvh.read(written(np.random.default_rng(8))[0].encode(), "other", "two")
        member = replace(first.member, id="marl", name="Marl")
        take, _ = bvh.fitting_member(member, second)
        mine = Program(Scene("s", (member,)), take)
        theirs = Program(Scene("t", (second.member,)), second.take)
        at = np.arange(0.0, 6.0)
        a = mine.evaluate(at).pos[:, mine.joints()[1]]
        b = theirs.evaluate(at).pos[:, theirs.joints()[1]]
        np.testing.assert_allclose(a, b, atol=1e-9)

    def test_what_does_not_fit_is_named(self) -> None:
        read = bvh.read(written(np.random.default_rng(9))[0].encode(), "body", "one")
        renamed = bvh.read(written(np.random.default_rng(9), names={"A3": "elbow"})[0].encode(), "body", "two")
        with self.assertRaisesRegex(CoreError, "has no elbow; the file has no A3"):
            bvh.fitting_member(read.member, renamed)
        larger = bvh.read(written(np.random.default_rng(9))[0].encode(), "body", "two", "inches")
        with self.assertRaisesRegex(CoreError, "the bone to"):
            bvh.fitting_member(read.member, larger)


class Ranges(unittest.TestCase):
    def test_only_whole_frames_of_the_take_are_written(self) -> None:
        from yielding_tether.formats import glb

        read = bvh.read(written(np.random.default_rng(10), frames=9)[0].encode(), "body", "one")
        program = Program(Scene("s", (read.member,)), read.take)
        for write in (bvh.write, glb.write):
            for first, last in ((-1, 4), (0, 9), (0.5, 4), (2, 4.25), (5, 2), (float("nan"), 4), (0, float("inf"))):
                with self.assertRaisesRegex(CoreError, "to write|must be whole"):
                    write(program, "body", first, last)
            self.assertTrue(write(program, "body", 3, 3))
