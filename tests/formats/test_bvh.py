"""BVH in and out: odd but sound files, broken files with their line, limbs by structure."""

from __future__ import annotations

import json
import tempfile
import unittest
from pathlib import Path

import numpy as np
from scipy.spatial.transform import Rotation

from tests.core.readings import every_body
from tests.core.test_handover import demo
from tests.core.worlds import growing
from tests.servers import node
from yielding_tether.core.errors import CoreError
from yielding_tether.core.parts import LimbPart
from yielding_tether.core.program import Program
from yielding_tether.core.takes import Scene
from yielding_tether.formats import FormatError, bvh

BODY = {
    "Hips": (None, (0, 95, 0)), "Spine": ("Hips", (0, 12, 0)), "Chest": ("Spine", (0, 22, 0)),
    "Head": ("Chest", (0, 28, 0)),
    "A1": ("Chest", (6, 18, 0)), "A2": ("A1", (12, 0, 0)), "A3": ("A2", (28, 0, 0)), "A4": ("A3", (26, 0, 0)),
    "B1": ("Chest", (-6, 18, 0)), "B2": ("B1", (-12, 0, 0)), "B3": ("B2", (-28, 0, 0)), "B4": ("B3", (-26, 0, 0)),
    "C1": ("Hips", (9, -4, 0)), "C2": ("C1", (0, -42, 0)), "C3": ("C2", (0, -41, 0)), "C4": ("C3", (0, -5, 13)),
    "D1": ("Hips", (-9, -4, 0)), "D2": ("D1", (0, -42, 0)), "D3": ("D2", (0, -41, 0)), "D4": ("D3", (0, -5, 13)),
}  # fmt: skip


def written(
    rng: np.random.Generator, frames: int = 12, order: str = "ZXY", gap: str = " ", end: str = "\n", scale: float = 1.0,
    names: dict[str, str] | None = None, bends: bool = True,
) -> tuple[str, dict[str, np.ndarray]]:  # fmt: skip
    """A capture of a straight-limbed body, and where its joints are (metres), worked out here with SciPy."""
    names = names or {}
    lines = ["HIERARCHY"]
    order_of: list[str] = []

    def emit(name: str, depth: int) -> None:
        pad = gap * depth if gap == "\t" else "  " * depth
        parent, offset = BODY[name]
        head = "ROOT" if parent is None else "JOINT"
        lines.append(f"{pad}{head} {names.get(name, name)}")
        lines.append(pad + "{")
        lines.append(f"{pad}{gap}OFFSET{gap}" + gap.join(str(v * scale) for v in offset))
        turns = gap.join(f"{a}rotation" for a in order)
        places = gap.join(["Yposition", "Xposition", "Zposition"])
        lines.append(
            f"{pad}{gap}CHANNELS{gap}" + (f"6{gap}{places}{gap}{turns}" if parent is None else f"3{gap}{turns}")
        )
        order_of.append(name)
        children = [c for c, (p, _) in BODY.items() if p == name]
        for child in children:
            emit(child, depth + 1)
        if not children:
            lines.extend([f"{pad}End Site", pad + "{", f"{pad}OFFSET{gap}0{gap}{5 * scale}{gap}2", pad + "}"])
        lines.append(pad + "}")

    emit("Hips", 0)
    angles = {n: rng.uniform(-25, 25, (frames, 3)) for n in order_of}
    for name, axis, sign in (("A3", 1, -1), ("B3", 1, 1), ("C2", 0, 1), ("D2", 0, 1)):
        # Elbows turn about Y, knees about X: hinges that the rest pose can't show.
        angles[name] = np.zeros((frames, 3))
        if bends:
            angles[name][:, order.index("XYZ"[axis])] = sign * rng.uniform(5, 80, frames)
    moved = rng.uniform(-40, 40, (frames, 3)) * scale
    rows = []
    for f in range(frames):
        row = [moved[f, 1], moved[f, 0], moved[f, 2]]
        for name in order_of:
            row += angles[name][f].tolist()
        rows.append(gap.join(f"{v:.7g}" if f % 2 else f"{v:.9e}" for v in row))
    lines += ["MOTION", f"Frames:{gap}{frames}", f"Frame Time: {1 / 30:.6f}", *rows]
    places: dict[str, np.ndarray] = {}
    turns: dict[str, Rotation] = {}
    for name in order_of:
        parent, offset = BODY[name]
        local = Rotation.from_euler(order, angles[name], degrees=True)
        if parent is None:
            places[name] = (np.array(offset) * scale + moved) * 0.01 / scale
            turns[name] = local
        else:
            places[name] = places[parent] + turns[parent].apply(np.array(offset)) * 0.01
            turns[name] = turns[parent] * local
    return end.join(lines) + end, places


class Reading(unittest.TestCase):
    def check(self, text: str, places: dict[str, np.ndarray], names: dict[str, str] | None = None) -> bvh.Imported:
        read = bvh.read(text.encode(), "body", "capture")
        program = Program(Scene("s", (read.member,)), read.take)
        pose = program.evaluate(read.take.frames)
        for name, want in places.items():
            node = program.nodes["body", (names or {}).get(name, name)]
            np.testing.assert_allclose(pose.pos[:, node], want, atol=1e-6)
        return read

    def test_any_channel_order_tabs_and_line_ends(self) -> None:
        for k, order in enumerate(("XYZ", "XZY", "YXZ", "YZX", "ZXY", "ZYX")):
            rng = np.random.default_rng(k)
            text, places = written(rng, order=order, gap="\t" if k % 2 else " ", end="\r\n" if k % 3 else "\n")
            read = self.check(text, places)
            self.assertIn("Read as centimetres.", read.notes)

    def test_units_follow_from_the_bodys_height(self) -> None:
        for scale, unit in ((1.0, "centimetres"), (0.01, "metres"), (1 / 2.54, "inches"), (10.0, "millimetres")):
            text, places = written(np.random.default_rng(1), scale=scale)
            self.assertIn(f"Read as {unit}.", self.check(text, places).notes)

    def test_limbs_are_found_without_telling_names(self) -> None:
        read = bvh.read(written(np.random.default_rng(2))[0].encode(), "body", "capture")
        limbs = {p.name: p for p in read.member.parts if isinstance(p, LimbPart)}
        self.assertEqual({n: p.bones for n, p in limbs.items()}, {
            "arm.L": ("A2", "A3", "A4"), "arm.R": ("B2", "B3", "B4"),
            "leg.L": ("C1", "C2", "C3"), "leg.R": ("D1", "D2", "D3"),
        })  # fmt: skip

    def test_hinges_of_straight_limbs_come_from_the_motion(self) -> None:
        read = bvh.read(written(np.random.default_rng(3), frames=40)[0].encode(), "body", "capture")
        for part in read.member.parts:
            if isinstance(part, LimbPart):
                self.assertEqual(part.hinge_from, "motion")
                axis = (0, 1, 0) if part.role == "arm" else (1, 0, 0)
                self.assertGreater(abs(np.dot(part.hinge, axis)), 0.999)
        still = bvh.read(written(np.random.default_rng(3), bends=False)[0].encode(), "body", "capture")
        self.assertTrue(any("is a guess" in n for n in still.notes))

    def test_a_body_that_stands_along_z_is_stood_up(self) -> None:
        text, places = written(np.random.default_rng(11), frames=8)
        turned = []
        for line in text.splitlines():
            words = line.split()
            if words and words[0] == "OFFSET":
                x, y, z = map(float, words[1:])
                turned.append(f"OFFSET {x} {-z} {y}")
            else:
                turned.append(line)
        # X stays, Y becomes Z, Z becomes minus Y: in the names of channels, and in the signs of what was about Z.
        swapped = "\n".join(turned)
        swapped = swapped.replace("Yposition", "#p").replace("Zposition", "Yposition").replace("#p", "Zposition")
        swapped = swapped.replace("Yrotation", "#r").replace("Zrotation", "Yrotation").replace("#r", "Zrotation")
        head, _, rows = swapped.partition("Frame Time")
        time_line, _, body = rows.partition("\n")
        columns = [w for line in head.splitlines() if "CHANNELS" in line for w in line.split()[2:]]
        out = [
            " ".join(f"{-float(v) if c[0] == 'Y' else float(v):.9e}" for v, c in zip(row.split(), columns, strict=True))
            for row in body.splitlines()
        ]
        read = self.check(head + "Frame Time" + time_line + "\n" + "\n".join(out) + "\n", places)
        self.assertIn("Z is up in this file: the body was stood up.", read.notes)
        upright = bvh.read(text.encode(), "body", "capture")
        self.assertNotIn("Z is up in this file: the body was stood up.", upright.notes)
        names = {p.name: p.joints for p in upright.member.parts if isinstance(p, LimbPart)}
        self.assertEqual({p.name: p.joints for p in read.member.parts if isinstance(p, LimbPart)}, names)

    def test_a_rest_pose_put_before_the_motion_is_left_out(self) -> None:
        text = written(np.random.default_rng(12), frames=9)[0]
        head, _, body = text.partition("Frame Time")
        time_line, _, rows = body.partition("\n")
        motion = np.array([[float(w) for w in r.split()] for r in rows.splitlines()])
        # The motion itself creeps: from a first row by a hundredth of what the second differs.
        motion = motion[0] + 0.01 * (motion - motion[0])
        table = np.concatenate([np.zeros((1, motion.shape[1])), motion])
        text = head.replace("Frames: 9", "Frames: 10") + "Frame Time" + time_line + "\n"
        text += "\n".join(" ".join(f"{v:.9g}" for v in r) for r in table) + "\n"
        read = bvh.read(text.encode(), "body", "capture")
        self.assertEqual((read.take.first, read.take.last), (1, 9))
        self.assertTrue(any("the take starts at frame 1" in n for n in read.notes))
        same = bvh.read((head + "Frame Time" + body).encode(), "body", "capture")
        self.assertEqual(same.take.first, 0)

    def test_end_sites_may_be_several_or_missing(self) -> None:
        text, places = written(np.random.default_rng(13))
        several = text.replace("End Site", "End Site\n{\nOFFSET 1 2 3\n}\nend site", 1)
        self.check(several, places)
        lines = text.splitlines()
        bare = [k for k, line in enumerate(lines) if "End Site" in line]
        dropped = {n for k in bare for n in range(k, k + 4)}
        self.check("\n".join(line for n, line in enumerate(lines) if n not in dropped) + "\n", places)

    def test_a_rest_pose_that_is_no_t_keeps_its_limbs(self) -> None:
        """Every bone pointing the same way at rest: the motion alone tells the body."""
        text, _ = written(np.random.default_rng(14), frames=30)
        lines = []
        for line in text.splitlines():
            words = line.split()
            if words and words[0] == "OFFSET" and "End" not in line:
                length = float(np.linalg.norm([float(w) for w in words[1:]]))
                lines.append(f"OFFSET 0 {length:.6f} 0")
            else:
                lines.append(line)
        read = bvh.read(("\n".join(lines) + "\n").encode(), "body", "capture")
        found = {p.bones for p in read.member.parts if isinstance(p, LimbPart)}
        self.assertEqual(found, {("A2", "A3", "A4"), ("B2", "B3", "B4"), ("C1", "C2", "C3"), ("D1", "D2", "D3")})

    def test_names_with_spaces_colons_and_sides(self) -> None:
        names = {"A2": "rig:Left Arm", "A3": "rig:Left Fore Arm", "Hips": "rig: Hips"}
        text, places = written(np.random.default_rng(4), names=names)
        self.check(text, places, names)

    def test_capitals_and_a_wrong_count_of_frames_are_borne(self) -> None:
        text, places = written(np.random.default_rng(5))
        odd = text.replace("JOINT", "Joint").replace("OFFSET", "Offset").replace("rotation", "ROTATION")
        self.check(odd.replace("Frames: 12", "FRAMES: 99"), places)
        read = bvh.read(text.replace("Frames: 12", "Frames: 99").encode(), "body", "capture")
        self.assertIn("The file announces 99 frames and holds 12: all 12 were read.", read.notes)

    def test_inner_joints_that_move_carry_their_whole_offset_or_add_to_it(self) -> None:
        for whole in (True, False):
            shift = "0 30 0" if whole else "0 0 0"
            text = (
                "HIERARCHY\nROOT a\n{\nOFFSET 0 100 0\nCHANNELS 3 Xrotation Yrotation Zrotation\n"
                "JOINT b\n{\nOFFSET 0 30 0\n"
                "CHANNELS 3 Xposition Yposition Zposition\nEnd Site\n{\nOFFSET 0 40 0\n}\n}\n}\n"
                f"MOTION\nFrames: 2\nFrame Time: 0.04\n0 0 0 {shift}\n0 0 0 {shift}\n"
            )
            read = bvh.read(text.encode(), "body", "c", "centimetres")
            np.testing.assert_allclose(read.take.captures["body"].offsets[:, 1], [[0, 0.3, 0]] * 2, atol=1e-12)


class Broken(unittest.TestCase):
    def refused(self, text: str | bytes, message: str, line: int | None, token: str | None = None) -> None:
        data = text if isinstance(text, bytes) else text.encode()
        with self.assertRaises(FormatError) as caught:
            bvh.read(data, "body", "capture")
        self.assertIn(message, str(caught.exception))
        self.assertEqual(caught.exception.line, line, str(caught.exception))
        if token is not None:
            self.assertEqual(caught.exception.token, token)

    def test_each_fault_is_named_with_its_line(self) -> None:
        text, _ = written(np.random.default_rng(1))
        lines = text.split("\n")
        motion = lines.index("MOTION")

        def edited(n: int, line: str) -> str:
            return "\n".join([*lines[: n - 1], line, *lines[n:]])

        self.refused("", "it is empty", None)
        self.refused("PK\x03\x04\0\0", "this is no text", None)
        self.refused("solid cube\n", "expected HIERARCHY", 1, "solid")
        self.refused("\n".join(lines[:motion]), "without its MOTION part", motion)
        self.refused(edited(4, "OFFSET 0 x 0"), "expected a number for the offset's y", 4, "x")
        self.refused(edited(4, "OFFSET 0 nan 0"), "expected a finite number", 4, "nan")
        self.refused(edited(5, "CHANNELS 9 a"), "0 to 6", 5, "9")
        self.refused(edited(5, lines[4].replace("Zrotation", "Wrotation")), "expected a channel", 5, "Wrotation")
        self.refused(edited(5, lines[4].replace("Zrotation", "Xrotation")), "lists this channel twice", 5, "Xrotation")
        self.refused(edited(6, "JOINT Hips"), "used by two joints", 6, "Hips")
        self.refused(edited(motion + 2, "Frames: many"), "whole number of frames", motion + 2, "many")
        self.refused(edited(motion + 2, "Frames: 0"), "at least one frame", motion + 2, "0")
        self.refused(edited(motion + 3, "Frame Time: 0"), "between 0.0001 and 10 seconds", motion + 3)
        row = motion + 6
        self.refused(edited(row, lines[row - 1] + " 5"), "expected 63 values in this row of motion, found 64", row)
        self.refused(
            edited(row, lines[row - 1].replace(lines[row - 1].split()[7], "oops", 1)), "expected a number", row, "oops"
        )
        self.refused(edited(row, lines[row - 1].replace(lines[row - 1].split()[7], "inf", 1)), "finite", row, "inf")
        self.refused("\n".join(lines[: motion + 3]), "no motion after", motion + 3)
        self.refused("\n".join([*lines[:motion], "ROOT other", *lines[motion:]]), "second ROOT", motion + 1)
        closed = max(n for n in range(motion) if lines[n].strip() == "}")
        self.refused("\n".join(lines[:closed] + lines[closed + 1 :]), "ends too early", closed)

    def test_all_joints_in_one_point_are_refused(self) -> None:
        text = "HIERARCHY\nROOT a\n{\nOFFSET 0 0 0\nCHANNELS 1 Xrotation\n}\nMOTION\nFrames: 1\nFrame Time: 0.1\n3\n"
        self.refused(text, "all joints lie in one point", 2)


class Writing(unittest.TestCase):
    def test_what_is_written_has_the_same_joint_places(self) -> None:
        names, nodes = demo().joints(["marl"])
        grown = demo().with_curves(growing(np.random.default_rng(5), demo().scene.members))
        for program, first, last in ((demo(), 0, 204), (demo(), 60, 90), (grown, 0, 120)):
            read = bvh.read(bvh.write(program, "marl", first, last), "body", "again")
            again = Program(Scene("s", (read.member,)), read.take)
            frames = np.arange(first, last + 1.0)
            theirs = again.evaluate(frames - first)
            ours = program.evaluate(frames)
            for (_, joint), at in zip(names, nodes, strict=True):
                off = np.abs(theirs.pos[:, again.nodes["body", joint]] - ours.pos[:, at]).max()
                self.assertLess(off, 1e-6)

    def test_another_reader_places_the_joints_of_every_body_of_the_demo_takes_the_same(self) -> None:
        """three.js, which adds the position channels of the root to nothing and those of joints to their offsets."""
        cases = every_body()
        with tempfile.TemporaryDirectory() as folder:
            files = []
            for n, (program, member) in enumerate(cases):
                first = program.take.first
                files.append(Path(folder) / f"{n}.bvh")
                files[-1].write_bytes(bvh.write(program, member, first, first + 24))
            read = [json.loads(line) for line in node("read_bvh.mjs", *map(str, files)).splitlines()]
        for (program, member), theirs in zip(cases, read, strict=True):
            names, nodes = program.joints([member])
            # That reader takes dots out of names, and ends them at a gap.
            plain = [n.replace(".", "") for n in theirs["names"]]
            order = [plain.index(n.replace(".", "").replace(" ", "_")) for _, n in names]
            want = program.evaluate(program.take.first + np.arange(25.0)).pos[:, nodes]
            got = 0.01 * np.array(theirs["places"])[:, order]
            self.assertLess(np.linalg.norm(got - want, axis=-1).max(), 1e-4, (program.take.name, member))

    def test_what_was_written_comes_back_as_a_further_take_of_the_same_body(self) -> None:
        for program, name in every_body():
            member = program.scene.member(name)
            if member.kind != "character":
                continue
            first = program.take.first
            take, _ = bvh.fitting_member(
                member, bvh.read(bvh.write(program, name, first, first + 8), "body", "again", "centimetres")
            )
            again = Program(Scene("s", (member,)), take)
            names, nodes = program.joints([name])
            ours = program.evaluate(first + np.arange(9.0)).pos[:, nodes]
            theirs = again.evaluate(np.arange(9.0)).pos[:, [again.nodes[n] for n in names]]
            self.assertLess(np.abs(theirs - ours).max(), 1e-6, name)

    def test_a_body_of_another_size_does_not_fit_though_its_joints_have_places(self) -> None:
        program, name = next((p, m) for p, m in every_body() if m == "marl")
        grown = program.with_curves(growing(np.random.default_rng(5), program.scene.members))
        text = bvh.write(grown, name, 0, 20).decode()
        head, motion = text.split("MOTION")
        twice = "\n".join(
            " ".join(["OFFSET", *(f"{2 * float(x):.6f}" for x in line.split()[1:])]) if "OFFSET" in line else line
            for line in head.splitlines()
        )
        with self.assertRaisesRegex(CoreError, "does not fit Marl: the bone to"):
            bvh.fitting_member(
                program.scene.member(name), bvh.read(f"{twice}\nMOTION{motion}".encode(), "body", "x", "centimetres")
            )

    def test_props_and_set_pieces_can_be_written_too(self) -> None:
        read = bvh.read(bvh.write(demo(), "rope", 60, 100), "body", "rope", "centimetres")
        program = Program(Scene("s", (read.member,)), read.take)
        ours = demo().evaluate(np.arange(60, 101.0)).pos[:, demo().nodes["rope", "rope"]]
        np.testing.assert_allclose(program.evaluate(read.take.frames).pos[:, 0], ours, atol=1e-7)
