"""Layers: the sum against an independent composition, writing beneath and into them, changes of system under them, merging."""

from __future__ import annotations

import unittest
from dataclasses import replace
from functools import cache

import numpy as np
from numpy.random import Generator
from scipy.spatial.transform import Rotation

from tests.depth import DEPTH
from yielding_tether.core.clips import copy as copy_pose
from yielding_tether.core.curves import ARRIVING, FENCE, LEAVING, SMOOTH, Curve, Key, curve, sample
from yielding_tether.core.errors import CoreError
from yielding_tether.core.findings import find_all
from yielding_tether.core.layers import can_layer, flattened, turn_of
from yielding_tether.core.operations import Asked, run
from yielding_tether.core.operations.keys import EditAsked, NamedKeys
from yielding_tether.core.operations.pose import Drag
from yielding_tether.core.operations.pose import apply as pose
from yielding_tether.core.program import Program
from yielding_tether.core.rig import Bound
from yielding_tether.core.takes import Layer, Take
from yielding_tether.core.transforms import Floats, rotation_distance

from .test_handover import captured, demo
from .worlds import limb_member, random_curve, random_take, scene, stepped, unit


@cache
def plain() -> Program:
    return Program(demo().scene, demo().take)


def swing(rng: Generator, low: float, high: float, size: float, split: bool = False, level: float = 0.0) -> Curve:
    """A curve that is nothing (or `level`) at its ends and swings between, with a split key where asked."""
    times = np.unique(np.round(np.linspace(low, high, 6)))
    keys = [
        Key(float(t), v, v, s, s, SMOOTH)
        for t, v, s in zip(times, level + rng.normal(0, size, 6), rng.normal(0, size / 8, 6), strict=False)
    ]
    keys[0], keys[-1] = (
        k._replace(arriving=level, leaving=level, slope_in=0.0, slope_out=0.0) for k in (keys[0], keys[-1])
    )
    if split:
        keys[2] = keys[2]._replace(leaving=keys[2].leaving + size)
    return curve(keys)


def layered(
    rng: Generator, program: Program, names: list[str], count: int = 3, weights: bool = True, size: float = 0.3
) -> Program:  # fmt: skip
    """A take with random layers on channels."""
    layers = []
    for k in range(count):
        mine = [n for n in names if rng.random() < 0.8] or names[:1]
        curves = {n: swing(rng, 20, 150, size, rng.random() < 0.3) for n in mine}
        weight = random_curve(rng, 200, 0.5) if weights and rng.random() < 0.5 else curve([])
        layers.append(Layer(f"l{k}", f"layer {k}", curves, weight))
    return program.on(replace(program.take, layers=tuple(layers)))


def under_layers(rng: Generator, seed: int) -> tuple[Program, Bound]:
    """A random limb with a random take and one to five layers on both of its systems."""
    member = limb_member(rng, straight_rest=seed % 2 == 1, moves=seed % 3 == 0)
    program = Program(scene(member), random_take(rng, (member,), spread=0.4, kinds=(SMOOTH,)))
    bound = next(b for b in program.bounds.values() if len(b.systems) > 1)
    names = program.channel_names()
    able = [names[c] for x in ("fk", "ik") for c in bound.systems[x].channels if can_layer(program, int(c))]
    layers = tuple(
        Layer(f"l{k}", f"n{k}", {n: swing(rng, 5, 50, 0.03) for n in able if rng.random() < 0.6}, w)
        for k, w in enumerate(
            curve([]) if rng.random() < 0.5 else swing(rng, 0, 60, 0.1, level=0.7) for _ in range(1 + seed % 5)
        )
    )
    return program.on(replace(program.take, layers=layers)), bound


def composed(program: Program, channels: tuple[int, ...], order: str | None, times: Floats, side: int) -> np.ndarray:
    """(F, …) independently: the sum of a value, or the rotation (F, 4) of a turn, by SciPy's rotations."""
    names, take = program.channel_names(), program.take
    solo = any(x.solo for x in take.layers)
    layers = [x for x in take.layers if not x.mute and (x.solo or not solo)]

    def value(curves: dict[str, Curve], c: int, default: float) -> Floats:
        kept = curves.get(names[c])
        return sample(kept, times, side, default) if kept is not None and len(kept) else np.full(len(times), default)

    weights = [sample(x.weight, times, side, 1.0) if len(x.weight) else np.ones(len(times)) for x in layers]
    base = np.stack([value(dict(take.curves), c, float(program.defaults[c])) for c in channels], axis=-1)
    if order is None:
        return base[:, 0] + sum(
            (w * value(dict(x.curves), channels[0], 0.0) for x, w in zip(layers, weights, strict=True)),
            np.zeros(len(times)),
        )
    axes = ["xyz".index(a) for a in order]
    whole = Rotation.from_euler(order.upper(), base[:, axes])
    for x, w in zip(layers, weights, strict=True):
        angles = np.stack([value(dict(x.curves), c, 0.0) for c in channels], axis=-1)
        whole = whole * Rotation.from_rotvec(
            w[:, None] * Rotation.from_euler(order.upper(), angles[:, axes]).as_rotvec()
        )
    return whole.as_quat()


def arm(program: Program, system: str, part: str = "arm.L", member: str = "marl") -> list[str]:
    names = program.channel_names()
    return [names[c] for c in program.bound(member, part).systems[system].channels if can_layer(program, int(c))]


TIMES = np.unique(np.concatenate([np.arange(0, 205), np.arange(0, 204) + 0.5, [33.25]]))


class Sum(unittest.TestCase):
    def test_it_is_the_composition_at_any_time_and_on_both_sides(self) -> None:
        for seed in range(4 * DEPTH):
            rng = np.random.default_rng(seed)
            names = arm(plain(), "ik") + arm(plain(), "fk", "leg.L") + arm(plain(), "lead", "head")
            program = layered(rng, plain(), names, 1 + seed % 4)
            marks = [{}, {"mute": True}, {"solo": True}]
            layers = tuple(replace(x, **marks[int(rng.integers(3))]) for x in program.take.layers)
            program = program.on(replace(program.take, layers=layers))
            order = rng.permutation(len(layers))
            program = program.on(replace(program.take, layers=tuple(layers[k] for k in order)))
            done = set()
            for c in (program.channels[n] for n in names):
                turn = turn_of(program.rig, c)
                channels = turn.channels if turn else (c,)
                if channels in done:
                    continue
                done.add(channels)
                for side in (ARRIVING, LEAVING):
                    wanted = composed(program, channels, turn.order if turn else None, TIMES, side)
                    got = program.sample(TIMES, side, np.array(channels))
                    if turn is None:
                        np.testing.assert_allclose(got[0], wanted, atol=1e-9)
                    else:
                        axes = ["xyz".index(a) for a in turn.order]
                        made = Rotation.from_euler(turn.order.upper(), got[axes].T).as_quat()
                        self.assertLess(rotation_distance(made, wanted).max(), 1e-9)
            # The poses are those of a take whose curves are the sums.
            values = {c: program.sample(TIMES, LEAVING, np.array([c]))[0] for c in program.layering.channels}
            there = program.base.evaluate(TIMES, overrides=values)
            np.testing.assert_array_equal(program.evaluate(TIMES).pos, there.pos)

    def test_without_layers_rows_are_the_very_same_and_what_is_not_heard_changes_nothing(self) -> None:
        rng = np.random.default_rng(3)
        program = layered(rng, plain(), arm(plain(), "ik"))
        quiet = program.on(replace(program.take, layers=tuple(replace(x, mute=True) for x in program.take.layers)))
        np.testing.assert_array_equal(quiet.evaluate(TIMES).pos, plain().evaluate(TIMES).pos)
        self.assertEqual(quiet.layering.channels, frozenset())
        self.assertGreater(np.abs(program.evaluate(TIMES).pos - plain().evaluate(TIMES).pos).max(), 0.01)

    def test_merged_it_is_the_same_at_frames_and_where_nothing_turns_at_any_time(self) -> None:
        for seed in range(3 * DEPTH):
            rng = np.random.default_rng(seed)
            program = layered(rng, plain(), arm(plain(), "ik") + arm(plain(), "fk", "leg.L"), 2, weights=False)
            merged = program.on(flattened(program))
            self.assertEqual(merged.take.layers, ())
            frames = program.take.frames
            for side in (ARRIVING, LEAVING):
                a, b = merged.evaluate(frames, side), program.evaluate(frames, side)
                np.testing.assert_allclose(a.pos, b.pos, atol=1e-9)
                self.assertLess(rotation_distance(a.rot, b.rot).max(), 1e-9)
            scalars = np.array(program.layering.scalars)
            np.testing.assert_allclose(
                merged.sample(TIMES, LEAVING, scalars), program.sample(TIMES, LEAVING, scalars), atol=1e-9
            )


class Writing(unittest.TestCase):
    def test_a_drag_lands_where_it_was_put_on_the_base_and_on_any_layer(self) -> None:
        for seed in range(3 * DEPTH):
            rng = np.random.default_rng(seed)
            for part, control, joint in (("arm.L", "arm.L.ik", "hand.L"), ("leg.R", "leg.R.ik", "foot.R")):
                program = layered(rng, plain(), arm(plain(), "ik", part), 3)
                # One that has next to no weight can't be posed on.
                layers = tuple(
                    replace(x, weight=curve([Key(0.0, 0.7, 0.7)]) if len(x.weight) else x.weight)
                    for x in program.take.layers
                )
                program = program.on(replace(program.take, layers=layers))
                node = program.nodes["marl", joint]
                frame = 60.0 if part == "leg.R" else 150.0
                was = program.evaluate([frame])
                at = was.pos[0, node] + [0.02, 0.05, 0.01]
                turn = Rotation.from_quat(was.rot[0, node]) * Rotation.from_euler("xyz", [0.2, -0.1, 0.1])
                for layer in ("", "l0", "l2"):
                    drag = Drag(
                        "marl", part, control, frame, tuple(at.tolist()), tuple(turn.as_quat().tolist()), layer=layer
                    )
                    take, _ = pose(program, drag)
                    now = program.on(take).evaluate([frame])
                    control_node = program.bound("marl", part).controls[control].node
                    self.assertLess(np.linalg.norm(now.pos[0, control_node] - at), 1e-9)
                    self.assertLess(rotation_distance(now.rot[0, control_node], turn.as_quat()), 1e-7)
                    for old, new in zip(program.take.layers, take.layers, strict=True):
                        self.assertTrue(old is new or old.id == layer)
                    if layer:
                        self.assertEqual(dict(take.curves), dict(program.take.curves))

    def test_a_layer_of_a_stretch_is_nothing_outside_of_it(self) -> None:
        made = run(plain(), "layer", Asked((), 40.0, 80.0, {"do": "add", "called": "lift", "fenced": "yes"})).take
        program = plain().on(made)
        hand = program.evaluate([60.0]).pos[0, program.nodes["marl", "foot.L"]]
        take, _ = pose(
            program,
            Drag("marl", "leg.L", "leg.L.ik", 60.0, tuple((hand + [0, 0.08, 0]).tolist()), layer=made.layers[0].id),
        )
        outside = np.concatenate([np.arange(0, 40.5, 0.5), np.arange(80, 204.5, 0.5)])
        np.testing.assert_array_equal(program.on(take).evaluate(outside).pos, plain().evaluate(outside).pos)
        self.assertGreater(np.abs(program.on(take).evaluate([60.0]).pos - plain().evaluate([60.0]).pos).max(), 0.05)

    def test_a_key_on_a_layer_changes_nothing_and_keeps_what_is_before_and_after(self) -> None:
        program = plain().on(run(plain(), "layer", Asked(choices={"do": "add", "called": "lift"})).take)
        for frame in (62.0, 72.0):
            asked = Asked((("marl", "leg.L"),), frame, None, {"do": "key", "which": "layer1"})
            program = program.on(run(program, "layer", asked).take)
        np.testing.assert_array_equal(program.evaluate(TIMES).pos, plain().evaluate(TIMES).pos)
        foot = program.evaluate([67.0]).pos[0, program.nodes["marl", "foot.L"]]
        drag = Drag("marl", "leg.L", "leg.L.ik", 67.0, tuple((foot + [0.0, 0.05, 0.0]).tolist()), layer="layer1")
        lifted = program.on(pose(program, drag)[0])
        outside = TIMES[(TIMES <= 62) | (TIMES >= 72)]
        np.testing.assert_allclose(lifted.evaluate(outside).pos, plain().evaluate(outside).pos, atol=1e-12)

    def test_keys_of_a_layer_are_edited_by_themselves(self) -> None:
        rng = np.random.default_rng(1)
        program = layered(rng, plain(), arm(plain(), "ik"), 2)
        name = next(iter(program.take.layers[1].curves))
        t = float(program.take.layers[1].curves[name].times[1])
        edit = EditAsked("move", (NamedKeys((t,), name),), by=3.0)
        take = run(program, "edit", Asked(edit=edit, choices={"layer": "l1"})).take
        self.assertIs(take.layers[0], program.take.layers[0])
        self.assertIn(t + 3.0, take.layers[1].curves[name].times)
        self.assertEqual(dict(take.curves), dict(program.take.curves))

    def test_what_can_not_be_is_told(self) -> None:
        made = plain().on(run(plain(), "layer", Asked(choices={"do": "add", "called": "swing"})).take)
        for choices, told in (
            ({"do": "rename", "which": "none", "called": "x"}, "no layer 'none'"), ({"do": "add", "called": "swing"}, "already"),
            ({"do": "merge all"}, "nothing to merge"),
        ):  # fmt: skip
            with self.assertRaisesRegex(CoreError, told):
                run(made, "layer", Asked(choices=choices))
        muted = made.on(run(made, "layer", Asked(choices={"do": "mute", "which": "layer1"})).take)
        with self.assertRaisesRegex(CoreError, "not heard"):
            pose(muted, Drag("marl", "leg.L", "leg.L.ik", 60.0, (0.1, 0.1, 0.1), layer="layer1"))

    def test_any_operation_can_be_written_into_a_layer(self) -> None:
        for seed in range(2 * DEPTH):
            rng = np.random.default_rng(seed)
            program = layered(
                rng, plain(), arm(plain(), "ik", "leg.L") + arm(plain(), "fk"), 3, weights=False, size=0.1
            )
            clip = copy_pose(program.merged, "marl", ("leg.L",), 40.0, 40.0, "pose")
            for which in ("l0", "l1", "l2"):
                asked = Asked((("marl", "leg.L"),), 90.0, None, {"layer": which}, clip=clip)
                done = run(program, "paste", asked)
                after = program.on(done.take)
                want = program.on(run(program.merged, "paste", replace(asked, choices={})).take)
                joints = program.joints()[1]
                for side in (ARRIVING, LEAVING):
                    a, b = (p.evaluate(program.take.frames[:70], side).pos[:, joints] for p in (after, program))
                    np.testing.assert_allclose(a, b, atol=1e-9)
                a, b = (p.evaluate([90.0]) for p in (after, want))
                np.testing.assert_allclose(a.pos[:, joints], b.pos[:, joints], atol=1e-9)
                self.assertGreater(np.abs(a.pos - program.evaluate([90.0]).pos).max(), 1e-3)
                # Nothing else is another, but what steps, which is never layered.
                changed = {n for n, c in done.take.curves.items() if c != program.take.curves.get(n)}
                self.assertLessEqual(changed, {"marl/leg.L.ik.bend"})
                for old, new in zip(program.take.layers, done.take.layers, strict=True):
                    self.assertEqual(old is new, old.id != which)


class Under(unittest.TestCase):
    def same(self, before: Program, after: Program, first: float, last: float, within: float = 1e-6) -> None:
        """All outside as it was, and the poses at frames within the stretch."""
        frames, joints = before.take.frames, before.joints()[1]
        inside = (frames >= first) & (frames < last)
        for side in (ARRIVING, LEAVING):
            there = frames[~inside & ((side == LEAVING) | (frames != last))]
            a, b = (p.evaluate(there, side).pos[:, joints] for p in (before, after))
            np.testing.assert_allclose(b, a, atol=within)
        # What arrives at its first frame lies before it.
        at, side = np.append(frames[inside], last), np.append(np.zeros(int(inside.sum()), dtype=np.int64), ARRIVING)
        a, b = before.evaluate(at, side), after.evaluate(at, side)
        np.testing.assert_allclose(b.pos[:, joints], a.pos[:, joints], atol=within)
        self.assertLess(rotation_distance(a.rot[:, joints], b.rot[:, joints]).max(), 10 * within)

    def test_a_handover_keeps_the_pose_and_carries_layers_across_or_folds_them(self) -> None:
        for seed in range(2 * DEPTH):
            rng = np.random.default_rng(seed)
            # In FK until it takes hold of the rail, and the layers are on that; it is not straight meanwhile, so no sign steps.
            program = layered(rng, plain(), arm(plain(), "fk"), 1 + seed % 3, weights=False, size=0.05)
            for how in ("carried", "folded"):
                asked = Asked((("marl", "arm.L"),), 55.0, 90.0, {"to": "ik", "keys": "every", "layers": how})
                done = run(program, "handover", asked)
                after = program.on(done.take)
                self.same(program, after, 55.0, 90.0)
                self.assertLess(max(c.pose for c in done.proof.changes if c.what != "split"), 1e-6)
                self.assertTrue(all(x.id == y.id for x, y in zip(program.take.layers, done.take.layers, strict=True)))
                # The layers that were there keep the keys that they had.
                for old, new in zip(program.take.layers, done.take.layers, strict=True):
                    for name, kept in old.curves.items():
                        self.assertEqual(new.curves[name], kept)
                if how == "carried":
                    # Muted from the top down, it is what it was without them.
                    for k in range(len(program.take.layers)):

                        def mute(take: Take, k: int = k) -> Take:
                            return replace(
                                take, layers=tuple(replace(x, mute=n >= k) for n, x in enumerate(take.layers))
                            )

                        self.same(program.on(mute(program.take)), program.on(mute(done.take)), 55.0, 90.0)

    def test_random_rigs_are_handed_over_at_any_time_with_layers_on_both_systems(self) -> None:
        for seed in (0, 5, *range(6, 3 * DEPTH)):
            rng = np.random.default_rng(seed)
            member = limb_member(rng, straight_rest=seed % 2 == 0, moves=seed % 3 == 0)
            program = Program(scene(member), random_take(rng, (member,), spread=0.4, kinds=(SMOOTH,)))
            bound = next(b for b in program.bounds.values() if len(b.systems) > 1)
            names = program.channel_names()
            program = program.with_curves({names[bound.drivers[0][1]]: stepped((0, 0))})
            able = [names[c] for x in ("fk", "ik") for c in bound.systems[x].channels if can_layer(program, int(c))]
            layers = (
                Layer(f"l{k}", "", {n: swing(rng, 5, 50, 0.05) for n in able if rng.random() < 0.7}) for k in range(2)
            )
            program = program.on(replace(program.take, layers=tuple(layers)))
            last, joints = float(program.take.last), program.joints()[1]
            # To the end of the take, between frames, at its last frame alone, and over an older change.
            # One way or the other by turns.
            for turn, steps in enumerate(
                ([(0.0, None)], [(10.5, 30.25)], [(last, None)], [(20.0, 40.0), (25.0, 35.0)]), seed
            ):
                for how in ("carried", "folded")[turn % 2 :: 1 if DEPTH > 1 else 2]:
                    after = program
                    for n, (a, b) in enumerate(steps):
                        asked = Asked((bound.id,), a, b, {"to": ("ik", "fk")[n], "keys": "every", "layers": how})
                        after = after.on(run(after, "handover", asked).take)
                    for side in (ARRIVING, LEAVING):
                        was, now = (p.evaluate(program.take.frames, side) for p in (program, after))
                        np.testing.assert_allclose(now.pos[:, joints], was.pos[:, joints], atol=1e-6)
                        self.assertLess(rotation_distance(now.rot[:, joints], was.rot[:, joints]).max(), 1e-6)

    def test_random_operations_on_random_rigs_make_what_they_make_without_layers(self) -> None:
        """One to five layers on both systems: poses after it as where the sum was keyed, outside unchanged, layers kept."""
        asked: list[tuple[str, dict[str, str | float], str]] = [
            ("handover", {"to": "ik", "keys": "every"}, "layers"), ("crossfade", {"to": "ik", "over": 6}, "layers"),
            ("handover", {"to": "ik", "after": "hold"}, "layers"), ("retether", {"to": "world", "keys": "every"}, "layers"),
            ("nudge", {"rx": 6.0, "ry": -4.0, "ease": 5, "which": "wrist"}, ""), ("bake", {"to": "fk", "keys": "every"}, ""),
        ]  # fmt: skip
        done = 0
        for seed in range(5 * DEPTH):
            rng = np.random.default_rng(700 + seed)
            program, bound = under_layers(rng, seed)
            layers = program.take.layers
            program = program.with_curves({program.channel_names()[bound.drivers[0][1]]: stepped((0, 0))})
            plain_ = program.on(flattened(program))
            joint = bound.part.joints[-1]
            first, last = float(rng.integers(8, 20)), float(rng.integers(30, 45))
            for name, choices, how in asked:
                mine = {k: joint if v == "wrist" else v for k, v in choices.items()}
                told = {"layers": ("carried", "folded")[seed % 2]} if how else {}
                try:
                    want = run(plain_, name, Asked((bound.id,), first, last, mine))
                except CoreError as error:
                    with self.assertRaises(type(error)):
                        run(program, name, Asked((bound.id,), first, last, {**mine, **told}))
                    continue
                got = run(program, name, Asked((bound.id,), first, last, {**mine, **told}))
                done += 1
                with self.subTest(seed=seed, operation=name, **told):
                    self.assertEqual([x.id for x in got.take.layers], [x.id for x in layers])
                    if told.get("layers") != "carried" or name == "crossfade":
                        for a, b in zip(got.take.layers, layers, strict=True):
                            self.assertTrue(told.get("layers") == "carried" or a.curves == b.curves)
                    for side in (ARRIVING, LEAVING):
                        a, b = (
                            p.evaluate(program.take.frames, side) for p in (plain_.on(want.take), program.on(got.take))
                        )
                        joints = program.joints()[1]
                        np.testing.assert_allclose(b.pos[:, joints], a.pos[:, joints], atol=2e-6)
                        self.assertLess(rotation_distance(b.rot[:, joints], a.rot[:, joints]).max(), 2e-6)
                    if name == "handover":
                        self.assertNotIn("one-sided", {f.kind for f in find_all(program.on(got.take))})
                    if name != "crossfade":
                        away = program.take.frames[(program.take.frames < first - 6) | (program.take.frames > last + 6)]
                        was, now = (p.evaluate(away) for p in (program, program.on(got.take)))
                        np.testing.assert_allclose(now.pos[:, joints], was.pos[:, joints], atol=1e-6)
        self.assertGreater(done, 20)

    def test_pastes_poses_turns_key_edits_and_repairs_of_random_rigs_beneath_layers(self) -> None:
        """One to five layers with weights on both systems: what is made is what the sum alone would give, and every layer is the
        very same; a key edit of the base is that of the base alone."""
        one_sided = 0
        for seed in range(4 * DEPTH):
            rng = np.random.default_rng(900 + seed)
            program, bound = under_layers(rng, seed)
            layers, system = program.take.layers, ("fk", "ik")[seed % 2]
            driver = program.channel_names()[bound.drivers[0][1]]
            # It changes over where the systems are apart: a pop.
            popped = program.with_curves({driver: stepped((0, float(system == "ik")), (30, float(system != "ik")))})
            program = program.with_curves({driver: stepped((0, float(system == "ik")))})
            summed = program.on(flattened(program))

            def alike(
                a: Program,
                b: Program,
                got: Take,
                layers: tuple[Layer, ...] = layers,
                frames: Floats = summed.take.frames,
            ) -> None:
                self.assertTrue(all(x is y for x, y in zip(got.layers, layers, strict=True)))
                joints = a.joints()[1]
                for side in (ARRIVING, LEAVING):
                    x, y = (p.evaluate(frames, side) for p in (a, b))
                    np.testing.assert_allclose(y.pos[:, joints], x.pos[:, joints], atol=2e-6)
                    self.assertLess(rotation_distance(x.rot[:, joints], y.rot[:, joints]).max(), 2e-6)

            for first, last, at in ((12.0, 12.0, 33.0), (10.0, 18.0, 31.0)):
                clip = copy_pose(summed, bound.member.id, (bound.part.name,), first, last, "pose")
                asked = Asked((bound.id,), at, None, clip=clip)
                got = run(program, "paste", asked).take
                alike(summed.on(run(summed, "paste", asked).take), program.on(got), got)
            control = bound.systems["ik"].controls[0].name
            if system == "ik":
                choices: dict[str, str | float] = {"at": "0.4 0.2 -0.1", "keys": "every"}
                asked = Asked((bound.id,), 12.0, 24.0, choices)
                got = run(program, "turn-about", asked).take
                alike(summed.on(run(summed, "turn-about", asked).take), program.on(got), got)
                at = program.evaluate([27.0]).pos[0, bound.controls[control].node] + [0.01, 0.02, 0.0]
                drag = Drag(*bound.id, control, 27.0, tuple(at.tolist()), unit(rng, 4))
                got = pose(program, drag)[0]
                # Between the keys beside it the base goes as it is keyed.
                alike(summed.on(pose(summed, drag)[0]), program.on(got), got, frames=np.array([27.0]))
                keyed = [program.take.curves[n].times for n, c in got.curves.items() if c != program.take.curves.get(n)]
                low, high = min(t[t < 27].max(initial=-1) for t in keyed), max(t[t > 27].min(initial=61) for t in keyed)
                beside = np.setdiff1d(program.take.frames, np.arange(low + 1, high))
                alike(program, program.on(got), got, frames=beside)
            mine = [program.channel_names()[c] for c in bound.systems[system].channels]
            name = next(n for n in mine if len(program.take.curves.get(n, ())) > 2)
            time = float(program.take.curves[name].times[2])
            base = program.on(replace(program.take, layers=()))
            for edit in (
                EditAsked("move", (NamedKeys((time,), name),), by=0.5), EditAsked("delete", (NamedKeys((time,), name),)),
            ):  # fmt: skip
                got = run(program, "edit", Asked(edit=edit)).take
                self.assertEqual(dict(got.curves), dict(run(base, "edit", Asked(edit=edit)).take.curves))
                self.assertEqual(got.layers, layers)
            flat = popped.on(flattened(popped))
            found, there = (
                next(f for f in find_all(p) if f.kind in ("pop", "one-sided") and f.frame == 30.0)
                for p in (popped, flat)
            )
            got = run(popped, "repair", Asked(findings=(found.key,))).take
            alike(flat.on(run(flat, "repair", Asked(findings=(there.key,))).take), popped.on(got), got)
            self.assertFalse(
                [f for f in find_all(popped.on(got)) if f.frame == 30.0 and f.kind in ("pop", "one-sided")]
            )
            one_sided += found.kind == "one-sided"
            tags = {int(t) for c in got.curves.values() for t in c.marks[:, 2]}
            self.assertLessEqual(tags, {0, FENCE})
        self.assertGreater(one_sided, 2 * DEPTH)

    def test_other_operations_see_the_sum_and_write_beneath_it(self) -> None:
        rng = np.random.default_rng(8)
        program = layered(rng, plain(), arm(plain(), "ik", "leg.L") + arm(plain(), "fk"), 2, weights=False, size=0.02)
        anchor = Asked((("marl", "leg.L"),), 62.0, 72.0, {"on": "deck/deck"})
        done = run(program, "plant", anchor)
        after = program.on(done.take)
        deck, foot = (program.nodes[x] for x in (("deck", "deck"), ("marl", "foot.L")))
        poses = after.evaluate(np.arange(62.0, 72.5, 0.5))
        local = Rotation.from_quat(poses.rot[:, deck]).inv().apply(poses.pos[:, foot] - poses.pos[:, deck])
        self.assertLess(np.ptp(local, axis=0).max(), 2e-3)
        for old, new in zip(program.take.layers, done.take.layers, strict=True):
            self.assertIs(old, new)

    def test_adjustments_of_a_capture_are_layered_and_the_capture_stays(self) -> None:
        program = captured()
        names = program.channel_names()
        bound = program.bound("body", "arm.L")
        mine = [names[c] for c in bound.systems["captured"].channels if names[c][-2:] in ("rx", "ry", "rz")]
        rng = np.random.default_rng(2)
        made = layered(rng, program, mine, 2, weights=False)
        self.assertIs(made.take.captures, program.take.captures)
        self.assertGreater(np.abs(made.evaluate(TIMES).pos - program.evaluate(TIMES).pos).max(), 0.01)
        merged = made.on(flattened(made))
        np.testing.assert_allclose(
            merged.evaluate(made.take.frames).pos, made.evaluate(made.take.frames).pos, atol=1e-9
        )


class Found(unittest.TestCase):
    def test_a_jump_names_the_layer_that_makes_it(self) -> None:
        name = next(n for n in arm(plain(), "fk", "leg.R") if n.endswith("thigh.R.rx"))
        leg = next(n for n in arm(plain(), "ik", "leg.L") if n.endswith(".ty"))
        step = curve([Key(0.0, 0.0, 0.0), Key(50.0, 0.0, 0.05), Key(90.0, 0.0, 0.0)])
        layers = (
            Layer("l0", "still", {leg: curve([Key(0.0, 0.01, 0.01)])}),
            Layer("l1", "step", {leg: step, name: step}),
        )
        program = plain().on(replace(plain().take, layers=layers))
        known = {f.key for f in find_all(plain())}
        (new,) = (f for f in find_all(program) if f.key not in known)
        self.assertEqual((new.kind, new.part, new.frame), ("pop", "leg.L", 50.0))
        self.assertTrue(new.sentence.endswith(", by the layer step"), new.sentence)
        self.assertFalse([f for f in find_all(program) if f.key in known and "layer" in f.sentence])


class Operations(unittest.TestCase):
    def test_layers_are_made_named_ordered_weighted_copied_and_merged(self) -> None:
        rng = np.random.default_rng(4)
        program = layered(rng, plain(), arm(plain(), "ik") + arm(plain(), "fk", "leg.L"), 3)
        now = program

        def do(what: str, which: str = "", first: float = 0.0, **more: object) -> Program:
            nonlocal now
            now = now.on(run(now, "layer", Asked((), first, None, {"do": what, "which": which, **more})).take)  # type: ignore[dict-item]
            return now

        do("up", "l0")
        self.assertEqual([x.id for x in now.take.layers], ["l1", "l0", "l2"])
        do("down", "l0")
        do("rename", "l0", called="  lift   of it ")
        self.assertEqual(now.take.layers[0].name, "lift of it")
        do("copy", "l0")
        do("remove", "layer1")
        np.testing.assert_array_equal(now.evaluate(TIMES).pos, program.evaluate(TIMES).pos)
        do("weight", "l1", 40.0, weight=0.25)
        self.assertAlmostEqual(float(sample(now.take.layers[1].weight, [40.0])[0]), 0.25)
        frames = program.take.frames
        was = now.evaluate(frames)
        # Down onto the one below it, and then into the base; others are not touched.
        top = now.take.layers[2]
        do("merge", "l1")
        self.assertEqual([x.id for x in now.take.layers], ["l0", "l2"])
        self.assertIs(now.take.layers[1], top)
        np.testing.assert_allclose(now.evaluate(frames).pos, was.pos, atol=1e-8)
        do("merge", "l0")
        np.testing.assert_allclose(now.evaluate(frames).pos, was.pos, atol=1e-8)
        do("merge all")
        self.assertEqual(now.take.layers, ())
        np.testing.assert_allclose(now.evaluate(frames).pos, was.pos, atol=1e-8)


if __name__ == "__main__":
    unittest.main()
