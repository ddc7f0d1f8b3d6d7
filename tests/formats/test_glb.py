"""GLB out: valid by the Khronos validator, and read by another reader with the same joint places at any time."""

from __future__ import annotations

import json
import tempfile
import unittest
from pathlib import Path

import numpy as np

from tests.core.readings import every_body
from tests.core.test_findings import planted
from tests.core.test_handover import captured, demo
from tests.core.worlds import growing
from tests.servers import node
from yielding_tether.core.cast import Shape
from yielding_tether.core.errors import CoreError
from yielding_tether.core.program import Program
from yielding_tether.demo.lantern_round import lantern_round
from yielding_tether.formats import glb


class Files(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def kept(self, name: str, data: bytes) -> str:
        path = self.folder / f"{name}.glb"
        path.write_bytes(data)
        return str(path)

    def test_the_validator_finds_nothing(self) -> None:
        files = []
        for program in (demo(), Program(*lantern_round()), captured()):
            for member in program.scene.members:
                data = glb.write(program, member.id, program.take.first, min(program.take.last, 60))
                files.append(self.kept(f"{len(files)}-{member.id}", data))
        reports = [json.loads(line) for line in node("validate_glb.mjs", *files).splitlines()]
        self.assertEqual(len(reports), len(files))
        for file, report in zip(files, reports, strict=True):
            self.assertEqual((report["numErrors"], report["numWarnings"]), (0, 0), (file, report["messages"][:3]))

    def same_places(self, *cases: tuple[Program, str, float, float]) -> None:
        asked, wanted = [], []
        for n, (program, member, first, last) in enumerate(cases):
            seconds = np.sort(np.random.default_rng(n).uniform(0.0, (last - first) / float(program.take.rate), 200))
            file = self.kept(f"read{n}", glb.write(program, member, first, last))
            asked.append((file, seconds.tolist()))
            names, nodes = program.joints([member])
            frames = first + seconds * float(program.take.rate)
            wanted.append(([name for _, name in names], program.evaluate(frames).pos[:, nodes]))
        list_ = self.folder / "asked.json"
        list_.write_text(json.dumps(asked))
        for line, (names_, places) in zip(node("read_glb.mjs", str(list_)).splitlines(), wanted, strict=True):
            read = json.loads(line)
            self.assertEqual(read["names"], names_)
            self.assertLess(np.linalg.norm(np.array(read["places"]) - places, axis=-1).max(), 1e-4)
            self.assertGreater(read["triangles"], 0)

    def test_another_reader_places_joints_the_same(self) -> None:
        # A body that grows and shrinks, keyed and captured, and what it holds.
        grown = [
            (program.with_curves(growing(np.random.default_rng(5), program.scene.members)), member, 0.0, 150.0)
            for program, member in ((demo(), "marl"), (demo(), "rope"), (captured(), "body"))
        ]
        self.same_places(
            (demo(), "marl", 0.0, 204.0), (demo(), "rope", 0.0, 204.0), (Program(*lantern_round()), "marl", 20.0, 150.0),
            (captured(), "body", 0.0, 204.0), *grown,
        )  # fmt: skip

    def test_every_body_of_the_demo_takes_and_all_that_stands_about_it(self) -> None:
        self.same_places(*((p, member, p.take.first, p.take.first + 24.0) for p, member in every_body()))

    def test_jumps_and_half_driven_frames_come_through(self) -> None:
        self.same_places(*((planted(seed)[0], "marl", 0.0, 190.0) for seed in (3, 8)))

    def test_every_half_frame_of_a_range_is_sampled_and_none_beyond(self) -> None:
        program = demo()
        member = program.scene.member("marl")
        for first, last in ((20.0, 31.0), (20.5, 30.5), (7.0, 7.5), (20.25, 22.75)):
            frames = glb.sampled(program, member, first, last).frames
            self.assertEqual((frames[0], frames[-1]), (first, last))
            halves = [k / 2 for k in range(410) if first <= k / 2 <= last]
            self.assertLessEqual(set(halves), set(frames.tolist()))

    def test_samples_are_dense_only_where_motion_asks_for_it(self) -> None:
        member = demo().scene.member("quay")
        still = glb.sampled(demo(), member, 0.0, 204.0)
        moving = glb.sampled(demo(), demo().scene.member("marl"), 0.0, 204.0)
        self.assertLess(len(still.seconds), 450)
        self.assertGreater(len(moving.seconds), len(still.seconds))
        self.assertTrue(np.all(np.diff(moving.seconds) > 0.0))

    def test_an_empty_range_is_refused(self) -> None:
        with self.assertRaisesRegex(CoreError, "no frames from 9 to 3"):
            glb.write(demo(), "marl", 9.0, 3.0)

    def test_solids_are_closed_and_face_outward(self) -> None:
        for shape in (
            Shape("j", "ball", "skin", (0.1, 0.2, 0.3), size=(0.1, 0.2, 0.3), turn=(0.5, 0.5, 0.5, 0.5)),
            Shape("j", "block", "skin", (0.0, 0.0, 1.0), size=(0.1, 0.2, 0.3)),
            Shape("j", "capsule", "skin", (0.0, 0.0, 0.0), (0.3, -0.2, 0.1), (0.1, 0.05)),
            Shape("j", "capsule", "skin", (0.0, 0.5, 0.0), (0.0, 0.0, 0.0), (0.1, 0.1)),
            Shape("j", "ring", "skin", (0.0, 0.0, 0.0), (0.0, 1.0, 0.2), (0.2, 0.03)),
        ):
            points, normals, faces = glb.solid(shape)
            corner = points[faces]
            # The volume of a closed body whose faces look outward is above zero.
            volume = np.sum(np.cross(corner[:, 0], corner[:, 1]) * corner[:, 2]) / 6.0
            self.assertGreater(volume, 1e-6, shape.form)
            facing = np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0])
            self.assertTrue(np.all(np.sum(facing * normals[faces].mean(axis=1), axis=1) > 0.0), shape.form)
