"""Bend guides that follow something: elbows and knees that point at it, and no jump when that changes."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np

from tests.depth import DEPTH
from yielding_tether.core.curves import LEAVING
from yielding_tether.core.errors import CoreError, LoopError
from yielding_tether.core.express import Placing
from yielding_tether.core.findings import find_all
from yielding_tether.core.fitting import fit
from yielding_tether.core.operations.fade_follow import FadeFollow
from yielding_tether.core.operations.fade_follow import apply as fade
from yielding_tether.core.operations.mirror import Mirror
from yielding_tether.core.operations.mirror import apply as mirror
from yielding_tether.core.operations.repair import apply as repair
from yielding_tether.core.operations.retether import Retether, able, apply, drop
from yielding_tether.core.program import Program
from yielding_tether.core.rig import Bound
from yielding_tether.core.takes import Tether
from yielding_tether.core.transforms import Floats, rotate
from yielding_tether.demo.cast_off import cast_off

from .contract import driven, programs
from .test_retether import Checked, world
from .worlds import stepped

#: What a guide may follow in `test_retether.world`.
THINGS = ("world", "raft/raft", "cup/cup", "other/end", "other/limb.ik", "arm/carrier", "arm/root")


def guide_of(bound: Bound) -> str:
    return next(c.name for c in able(bound) if c.handle.computed)


def tied(program: Program, bound: Bound, anchor: tuple[str, str], share: float) -> Program:
    """A take in which a limb's guide follows something all along, as it stands at rest."""
    tether = Tether("it", bound.member.id, guide_of(bound), *anchor, True, False)
    take = replace(program.take, tethers=(*program.take.tethers, tether))
    return program.on(take).with_curves({tether.weight_channel("position"): stepped((0, share))})


def shown(program: Program, bound: Bound, at: Floats) -> Floats:
    """(F, 3) where a limb's guide is drawn."""
    now = program.bound(*bound.id)
    return program.computed(now, program.evaluate(at, LEAVING))[guide_of(now)]


def off(place: Floats, root: Floats, end: Floats) -> Floats:
    """(F, 3) what of a place lies off the line from root to end."""
    aim = (end - root) / np.linalg.norm(end - root, axis=1, keepdims=True)
    return place - root - np.sum((place - root) * aim, axis=1, keepdims=True) * aim


class Pointing(unittest.TestCase):
    def test_followed_in_full_the_limb_points_at_it_and_the_swivel_comes_on_top(self) -> None:
        """Two segments and more, keyed and captured, of any size: by the places of joints alone."""
        for kind in ("limb", "chain"):
            for seed in range(3 * DEPTH):
                for plain, bound in programs(seed, kind):
                    ik = bound.keyed_systems[-1]
                    swivel = bound.own[bound.followers and bound.part.ik, "swivel"]  # type: ignore[attr-defined]
                    name = plain.rig.names[swivel]
                    flat = driven(plain.with_curves({name: stepped((0, 0.0))}), bound, ik)
                    whole = tied(flat, bound, (bound.member.id, bound.member.skeleton.joints[0].name), 1.0)
                    at = np.linspace(0.0, 60.0, 41)
                    here = whole.bound(*bound.id)
                    poses = whole.evaluate(at)
                    root, end = (poses.pos[:, here.nodes[k]] for k in (0, -1))
                    (guide,) = here.guides.values()
                    anchor = guide.anchors[0]
                    size = poses.size(anchor.slot)
                    reach = anchor.pos if size is None else size[:, None] * anchor.pos
                    place = poses.pos[:, anchor.node] + rotate(poses.rot[:, anchor.node], reach)
                    drawn = shown(whole, here, at)
                    self.assertLess(np.abs(drawn - place).max(), 1e-7, (kind, seed))
                    # A quarter of a turn of the channel turns the bend by a quarter about the line of aim.
                    quarter = whole.with_curves({name: stepped((0, np.pi / 2))})
                    turned = off(shown(quarter, here, at), root, end)
                    straight = off(place, root, end)
                    dots = np.sum(turned * straight, axis=1) / np.linalg.norm(straight, axis=1) ** 2
                    self.assertLess(np.abs(dots).max(), 1e-6)
                    self.assertLess(
                        np.abs(np.linalg.norm(turned, axis=1) / np.linalg.norm(straight, axis=1) - 1).max(), 1e-6
                    )

    def test_a_share_of_one_thing_is_that_share_of_its_turn(self) -> None:
        for seed in range(4 * DEPTH):
            program = driven(world(seed), world(seed).bound("arm", "limb"), "ik")
            bound = program.bound("arm", "limb")
            at = np.arange(0.0, 60.0, 7.0)
            swivels = []
            for share in (0.0, 0.25, 0.5, 0.75, 1.0):
                now = tied(program, bound, ("raft", "raft"), share)
                poses = now.evaluate(at)
                values = fit(program, bound, "ik", poses).values
                swivels.append(values[list(bound.systems["ik"].channels).index(bound.own["limb.ik", "swivel"])])
            gone = np.array([s - swivels[0] for s in swivels])
            whole = np.angle(np.exp(1j * gone[-1]))
            for k, share in enumerate((0.25, 0.5, 0.75), 1):
                self.assertLess(np.abs(np.angle(np.exp(1j * (gone[k] - share * whole)))).max(), 1e-6, (seed, share))

    def test_any_subset_gives_the_same_bits_and_any_pose_fits(self) -> None:
        for kind in ("limb", "chain"):
            for seed in range(2 * DEPTH):
                rng = np.random.default_rng(seed)
                for plain, bound in programs(seed, kind):
                    program = driven(tied(plain, bound, ("world", "world"), 0.7), bound, bound.keyed_systems[-1])
                    at = np.sort(rng.uniform(0, 60, 40))
                    nodes = program.joints()[1]
                    whole = program.evaluate(at)
                    some = rng.permutation(40)[:17]
                    again = program.evaluate(at[some], only=nodes)
                    np.testing.assert_array_equal(whole.pos[some][:, nodes], again.pos[:, nodes])
                    other = driven(program, bound, "fk").evaluate(at)
                    found = fit(program, program.bound(*bound.id), bound.keyed_systems[-1], other)
                    self.assertLess(found.position.max(), 1e-6)
                    self.assertLess(found.rotation.max(), 1e-6)


class Changing(Checked):
    def test_pose_and_speed_go_on_whatever_is_followed(self) -> None:
        for seed in range(4 * DEPTH):
            program, rng = world(seed), np.random.default_rng(900 + seed)
            bound = program.bound("arm", "limb")
            for to in THINGS:
                first = float(rng.integers(3, 30))
                last = None if rng.random() < 0.4 else float(rng.integers(first + 5, 58))
                with self.subTest(seed=seed, to=to, first=first, last=last):
                    try:
                        asked = Retether(
                            (bound.id,), to, first, last, keys="every", control=guide_of(bound),
                            offset=("rest", "here")[int(rng.integers(2))],
                        )  # fmt: skip
                        take, proof = apply(program, asked)
                    except LoopError:
                        continue
                    after = program.on(take)
                    self.check(program, after, bound.id, first, last)
                    self.assertTrue(proof.unchanged_outside)
                    # Whatever drives, its own system moves as it did.
                    frames = np.arange(first, (60.0 if last is None else last) + 0.5)
                    a, b = (driven(p, bound, "ik").evaluate(frames, 1) for p in (program, after))
                    self.assertLess(np.abs(a.pos[:, bound.nodes] - b.pos[:, after.bound(*bound.id).nodes]).max(), 1e-6)
                    program_again = after.on(drop(after, bound.id, after.take.tethers[-1].name, Placing("every"))[0])
                    c = driven(program_again, bound, "ik").evaluate(frames, 1)
                    self.assertLess(np.abs(a.pos[:, bound.nodes] - c.pos[:, bound.nodes]).max(), 1e-6)

    def test_riding_along_and_fading_over_keep_the_values(self) -> None:
        program = world(1)
        program = driven(program, program.bound("arm", "limb"), "ik")
        bound = program.bound("arm", "limb")
        name = guide_of(bound)
        take, _ = apply(
            program, Retether((bound.id,), "raft/raft", 20.0, 50.0, "ride", offset="here", settle=0, control=name)
        )
        after = program.on(take)
        swivel = after.sample(
            np.arange(20.0, 50.0), LEAVING, np.array([after.bound(*bound.id).own["limb.ik", "swivel"]])
        )
        self.assertLess(np.ptp(swivel), 1e-9)
        take, _ = fade(program, FadeFollow((bound.id,), "raft/raft", 20.0, 28.0, name))
        after = program.on(take)
        a, b = (p.evaluate([20.0, 28.0]) for p in (program, after))
        self.assertLess(np.abs(a.pos[:, bound.nodes] - b.pos[:, after.bound(*bound.id).nodes]).max(), 1e-6)
        gone = (
            after.evaluate([40.0]).pos[0, after.bound(*bound.id).nodes[1]]
            - program.evaluate([40.0]).pos[0, bound.nodes[1]]
        )
        self.assertGreater(np.linalg.norm(gone), 1e-3)

    def test_carried_to_the_line_of_aim_it_is_found_and_let_go(self) -> None:
        program = world(1)
        program = driven(program, program.bound("arm", "limb"), "ik")
        bound = program.bound("arm", "limb")
        poses = program.evaluate([30.0])
        root, end = (poses.pos[0, bound.nodes[k]] for k in (0, -1))
        offset = (*(0.5 * (root + end)).tolist(), 0.0, 0.0, 0.0, 1.0)
        tether = Tether("it", "arm", guide_of(bound), "world", "world", True, False, offset)
        plain = program.on(replace(program.take, tethers=(*program.take.tethers, tether)))
        near = plain.with_curves({tether.weight_channel("position"): stepped((0, 0.0), (25, 1.0), (36, 0.0))})
        lost = [f for f in find_all(near) if f.kind == "lost"]
        self.assertTrue(lost and lost[0].frame <= 30.0 <= lost[0].last)
        self.assertNotIn("lost", {f.kind for f in find_all(plain)})
        # Twice: each time is a finding of its own.
        twice = plain.with_curves(
            {tether.weight_channel("position"): stepped((0, 0.0), (25, 1.0), (28, 0.0), (30, 1.0), (33, 0.0))}
        )
        one, other = sorted((f.frame, f.last) for f in find_all(twice) if f.kind == "lost")
        self.assertTrue(one[0] >= 25.0 and one[1] <= 28.0 and other[0] >= 30.0 and other[1] <= 33.0, (one, other))
        take, proof = repair(near, (lost[0].key,))
        after = near.on(take)
        self.assertNotIn("lost", {f.kind for f in find_all(after) if f.frame <= 30.0 <= f.last})
        self.assertTrue(proof.unchanged_outside)
        fastest = [
            np.linalg.norm(np.diff(p.evaluate(np.arange(26.0, 36.0, 0.1)).pos[:, bound.nodes[1]], axis=0), axis=1).max()
            for p in (near, after)
        ]
        self.assertLess(fastest[1], 0.25 * fastest[0])

    def test_dragged_it_stands_where_it_was_dragged_to(self) -> None:
        for seed in range(4 * DEPTH):
            program = world(seed)
            bound = program.bound("arm", "limb")
            program = tied(driven(program, bound, "ik"), bound, ("raft", "raft"), (1.0, 0.6)[seed % 2])
            here = program.bound(*bound.id)
            poses = program.evaluate([20.0])
            root, end = (poses.pos[:, here.nodes[k]] for k in (0, -1))
            wish = shown(program, here, np.array([20.0]))[0] + np.random.default_rng(seed).normal(0.0, 0.3, 3)
            system = here.systems["ik"].system
            now = dict(enumerate(program.now(20.0, np.arange(len(program.defaults)))))
            drag = system.drag(here, program.posed(here, poses), guide_of(here), wish, poses.rot[0, 0], now)
            swivel = {c: v for c, v in drag.items() if program.info[c][2].poses}
            after = program.evaluate([20.0], overrides=swivel)
            got = program.computed(here, after)[guide_of(here)]
            a, b = (off(x, root, end)[0] for x in (got, wish[None]))
            self.assertLess(np.linalg.norm(np.cross(a, b)) / (np.linalg.norm(a) * np.linalg.norm(b)), 1e-6, seed)
            self.assertGreater(float(a @ b), 0.0)

    def test_what_it_cannot_follow_is_refused(self) -> None:
        program = world(1)
        bound = program.bound("arm", "limb")
        with self.assertRaisesRegex(CoreError, "no turn"):
            apply(program, Retether((bound.id,), "raft/raft", 20.0, control=guide_of(bound), what="rotation"))
        with self.assertRaises(LoopError):
            driving = driven(program, bound, "ik")
            apply(driving, Retether((bound.id,), "arm/lower", 20.0, control=guide_of(bound)))

    def test_mirrored_the_other_guide_follows(self) -> None:
        scene_, take = cast_off()
        program = Program(scene_, take)
        bound = program.bound("marl", "arm.R")
        asked = Retether((bound.id,), "marl/chest", 0.0, None, keys="every", control="arm.R.guide", offset="here")
        program = program.on(apply(program, asked)[0])
        after = program.on(mirror(program, Mirror(("marl",), 0.0))[0])
        mine = [t for t in after.take.tethers if t.control == "arm.L.guide"]
        self.assertEqual(len(mine), 1)
        self.assertGreater(after.sample([50.0], LEAVING, np.array([after.channels[mine[0].weights[0]]]))[0, 0], 0.99)
        back = program.on(mirror(after, Mirror(("marl",), 0.0))[0])
        t = np.arange(0, 2 * take.last + 1, 3) / 2.0
        a, b = (p.evaluate(t) for p in (program, back))
        nodes = program.bound("marl", "arm.R").nodes
        self.assertLess(np.abs(a.pos[:, nodes] - b.pos[:, back.bound("marl", "arm.R").nodes]).max(), 1e-6)


if __name__ == "__main__":
    unittest.main()
