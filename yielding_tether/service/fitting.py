"""Routes that fit a body: its limbs, and the figures of its parts, tried in motion before they are written."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from fastapi import FastAPI

from ..core.body_fit import Check, checks, limbs_of, orders_of, pointed, refitted, rehearsal
from ..core.cast import Member
from ..core.channels import TRAITS
from ..core.contact_finding import find
from ..core.errors import CoreError
from ..core.parts import Part
from ..core.program import Program
from ..core.proposal import Limb
from ..core.takes import Scene, Take
from ..formats.bvh import world_tethers
from ..store.store import Missing
from . import schemas as s
from .parameters import PROBLEMS, TakeId
from .studio import Studio

#: Takes of a scene, and frames of each, at which it is measured what other figures move.
TAKES, LOOKS = 12, 200


def add_fitting(app: FastAPI, studio: Studio) -> None:
    @app.post(
        "/api/scenes/{scene_id}/characters/{member}/fit", tags=["scenes"],
        summary="A character's limbs and figures: as they are, tried, or written", responses=PROBLEMS,
    )  # fmt: skip
    def fit_body(scene_id: TakeId, member: str, asked: s.FitAsked) -> s.FitInfo:
        """With nothing in it, it tells how the body is fitted. What takes show is told by its checks; limbs can be changed as
        long as nothing was done on the scene's takes."""
        return fitted(studio, scene_id, member, asked)


def fitted(studio: Studio, scene_id: int, member_id: str, asked: s.FitAsked) -> s.FitInfo:
    """A body as it is asked for, written where it is to be."""
    scene = studio.store.scene(scene_id)
    before = next((m for m in scene.members if m.id == member_id and m.kind == "character"), None)
    if before is None:
        raise Missing(f"{scene.name} has no character {member_id}.")
    counted = studio.store.takes_of(scene_id)
    takes = {id: studio.open(id).loaded.take for id, _ in counted[:TAKES]}
    captures = [t.captures[member_id] for t in takes.values() if member_id in t.captures]
    closed = _closed(before, counted, takes)
    limbs = None
    if asked.limbs is not None:
        limbs = tuple(Limb(tuple(x.corners), x.role, x.side, x.flipped) for x in asked.limbs)
        if limbs == limbs_of(before):
            limbs = None
        elif closed:
            raise CoreError(closed)
    settings = {(part, id): value for part, values in asked.settings.items() for id, value in values.items()}
    after = refitted(before, settings, limbs, captures)
    members = tuple(after if m is before else m for m in scene.members)
    made = Scene(scene.name, members)
    anew = {id: _anew(made, after, take) for id, take in takes.items()} if limbs is not None else {}
    said = checks(after, captures[:1])
    if after != before:
        said += [_moved(scene, made, take) for id, take in takes.items() if id not in anew]
    if asked.apply and after != before:
        studio.store.refit(scene_id, before, after, anew)
        studio.forget()
        before = after
    info = _told(before, after, scene.name, closed, said)
    if asked.pointed is not None:
        there = asked.pointed
        info.pointed = pointed(after, asked.part, there.setting, np.array(there.at), there.frame)
    if asked.part in {p.name for p in info.parts if p.moves}:
        shown = Program(Scene(scene.name, (after,)), rehearsal(after, asked.part))
        info.show, info.trial = studio.show(shown, counted[0][0] if counted else 1, scene_id)
    return info


def _closed(member: Member, counted: list[tuple[int, int]], takes: dict[int, Take]) -> str:
    """Why the limbs of a body can't be changed, if they can't."""
    worked = [takes[id].name for id, count in counted if id in takes and count > 1]
    bare = [t.name for t in takes.values() if member.id not in t.captures]
    names, why = (worked, "there was work on") if worked else (bare, "there are keys in place of a capture in")
    if len(counted) > TAKES:
        return f"{member.name} has more than {TAKES} takes: limbs are corrected before work begins."
    if names:
        told = ", ".join(names[:3])
        return f"Limbs can't be changed any more: {why} {told}. Bring the capture in again, and correct it before work begins."
    return ""


def _anew(scene: Scene, member: Member, take: Take) -> Take:
    """A take of a body with other limbs, as it is brought in."""
    tethers, curves = world_tethers(member)
    kept = {n: c for n, c in take.curves.items() if not n.startswith(f"{member.id}/")}
    others = tuple(t for t in take.tethers if t.member != member.id)
    bare = replace(take, curves={**kept, **curves}, tethers=(*others, *tethers), contacts=(), values=(), points=())
    return replace(bare, contacts=tuple(find(Program(scene, bare))))


def _moved(before: Scene, after: Scene, take: Take) -> Check:
    """How far a take's poses go with other figures."""
    one, two = Program(before, take), Program(after, take)
    frames = take.frames[:: max(1, len(take.frames) // LOOKS)]
    apart = ((one.evaluate(frames).pos - two.evaluate(frames).pos) ** 2).sum(axis=-1) ** 0.5
    most = float(apart.max())
    at = frames[int(apart.max(axis=1).argmax())]
    if most < 1e-6:
        return Check(f"{take.name} stays as it is", True)
    return Check(f"{take.name} moves: {1000.0 * most:.1f} mm at frame {at:.0f}, where most", False)


def _told(before: Member, after: Member, scene: str, closed: str, said: list[Check]) -> s.FitInfo:
    there = {(p.name, x.id): x.of(p) for p in before.parts for x in p.settings()}
    bones, orders = after.skeleton, orders_of(after)

    def part(p: Part) -> s.FitPart:
        return s.FitPart(
            name=p.name, label=p.label, side=p.side, joints=list(p.joints), corners=list(p.corners),
            moves=p.shown(bones, orders) != (),
            settings=[
                s.SettingInfo(
                    id=x.id, label=x.label, unit=TRAITS[x.kind].unit, value=x.of(p), before=there.get((p.name, x.id)),
                    least=x.least, most=x.most, joint=x.joint, places=list(x.places(p)),
                )
                for x in p.settings()
            ],
        )  # fmt: skip

    return s.FitInfo(
        member=after.id, name=after.name, scene=scene, parts=[part(p) for p in after.parts],
        limbs=[s.LimbSaid(corners=list(x.corners), role=x.role, side=x.side, flipped=x.flipped) for x in limbs_of(after)],
        joints=[j.name for j in bones.joints], parents=list(bones.parents), notes=list(after.notes),
        checks=[s.FitCheck(sentence=c.sentence, well=c.well) for c in said], closed=closed, changed=after != before,
        show=None, trial=None, pointed=None,
    )  # fmt: skip
