"""Retether: a control follows something else from a moment on, and neither the pose nor the speed jumps.

    channels after = the control's own motion, placed in the space that it follows then

The control's place in the world is expressed in the new space by the same means as a handover expresses joints in another
system. Either the motion goes on as it was, or the control rides along with what it follows now. The follow is added to
the take where it is new, and may start from the place at rest or from the place where the control is. A joint that FK turns
stays where it hangs, and its turn follows.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import product
from typing import Literal, NamedTuple

import numpy as np

from ..cast import Grip
from ..channels import in_words
from ..curves import ARRIVING, EMPTY, FREE, LEAVING, SMOOTH, STEPPED, Key, insert, over, put, sample, without
from ..errors import CoreError
from ..express import Curves, Placing, Settling, carry, control_target, fence, hold, join, lead, set_over, system_target
from ..findings import Finding, part_findings
from ..followers import Body, BoundControl
from ..follows import free_name
from ..program import Program
from ..proof import Proof, prove
from ..rig import Bound
from ..systems.system import Control
from ..takes import WORLD, Take, Tether
from ..transforms import Floats, inverse, multiply, rotate
from .handover import KEYS, TOLERANCE, refuse_locked, tolerance_of
from .nudge import Ease, more_of
from .operation import (
    Asked,
    Choice,
    Operation,
    Outcome,
    Parts,
    Value,
    check_parts,
    check_stretch,
    check_tolerance,
    labels,
    offered,
    stretch_words,
)

#: Place and unit quaternion at which a control is tied.
Offset = tuple[float, float, float, float, float, float, float]
#: The control's own space, as an anchor.
OWN = "own"
#: Values and speeds that are as near as this are the same.
SAME = 1e-10
#: Frames over which a limb reaches for what it takes hold of.
REACH = 10


@dataclass(frozen=True)
class Retether:
    """What is asked for. `to`: what is followed, "member/joint or control", "world", or "own" for the control's own space;
    `offset`: how the control is tied where the follow is new, as at "rest" or as it is "here"; `after`: the motion goes on
    ("carry"), or the control rides along ("ride"), its speed fading over `settle` frames, or it goes where the grips of both
    lie on one another ("snap"), reaching for it over `reach` frames before, and coming back from it over as many; `control`:
    what of each part follows ("": see `control_for`), and in `what`, as far as it can; `along`: others that hang on what is
    left come along (`dependants`); `size`: a root or prop takes that of what it follows on ("with"), and a body's own control
    stays where it is in the world as that grows with its body; or neither ("own")."""

    parts: Parts
    to: str
    first: float
    last: float | None = None
    after: Literal["carry", "ride", "snap"] = "carry"
    keys: Literal["kept", "every", "within", "few"] = "kept"
    offset: Literal["rest", "here"] = "rest"
    settle: float = 4.0
    reach: float = 0.0
    tolerance: tuple[float, float] = (1e-3, np.pi / 360.0)
    control: str = ""
    what: Literal["both", "position", "rotation"] = "both"
    along: bool = False
    size: Literal["own", "with"] = "own"


def able(bound: Bound) -> list[Control]:
    """Controls and joints of a part that can follow something."""
    return [c for c in bound.described if c.releases]


def control_for(program: Program, bound: Bound, named: str, first: float) -> Control:
    """What of a part is to follow something from a frame on: what is named, else the control that drives there; where joints
    do, the first of a limb, the last of others (the head of a neck). CoreError where nothing can."""
    known = {c.name: c for c in able(bound)}
    if named:
        if named not in known:
            there = f"choose {', '.join(known)}" if known else "it has none"
            raise CoreError(f"{bound.part.label} has no control {named!r} that can follow anything: {there}.")
        return known[named]
    if not known:
        raise CoreError(f"{bound.part.label} has no control that can follow anything.")
    shares = program.now(first, bound.driver_channels)
    state = bound.state(shares[:, None])
    placed = following(bound)
    own = [c for c in known.values() if c.own]
    joints = [c for c in known.values() if c.is_joint]
    turning = state is not None and any(c.is_joint for c in bound.systems[state].controls)
    if own and not (turning and joints):
        return own[-1]
    return joints[0 if placed else -1]


def which_control(program: Program, parts: Parts, first: float) -> dict[str, Value]:
    """What of one part most likely is to follow, as a choice; of several parts each has its own."""
    return {"control": control_for(program, program.bound(*parts[0]), "", first).name} if len(parts) == 1 else {}


def following(bound: Bound) -> list[BoundControl]:
    """Controls of a part that have places of their own and can follow something in place and rotation."""
    return [c for c in bound.controls.values() if c.control.releases >= {"position", "rotation"}]


def anchors(program: Program) -> list[tuple[str, str]]:
    """Everything that can be followed, as `Retether.to` names it, with what the animator reads."""
    found = [("world", "the world"), (OWN, "its own space")]
    for member in program.scene.members:
        seen = set()
        joints = [j.name for j in member.skeleton.joints]
        controls = [c for b in program.bounds.values() if b.member.id == member.id for c in b.controls]
        for name in (*joints, *controls):
            if name not in seen:
                seen.add(name)
                found.append((f"{member.id}/{name}", program.rig.reads(member.id, name)))
    return found


def retethered(program: Program, asked: Retether) -> Program:
    """The take after it, for operations that go on from there; as it is where it follows that already. CoreError as of `apply`."""
    return _followed(program, asked)[0]


def apply(program: Program, asked: Retether) -> tuple[Take, Proof]:
    """The take after it, and its proof. CoreError says what can't be done; nothing changes then."""
    after, chosen, others = _followed(program, asked)
    if after is program:
        raise CoreError(f"{labels(program, asked.parts)} already follows {read(program, asked.to)} there.")
    first, last = check_stretch(program.take, asked.first, asked.last)
    begin, end = first, last
    if asked.after == "snap" and asked.reach:
        reaching, reaches = _reaching(program, after, chosen, asked)
        after, chosen, others = _followed(reaching, asked)
        after = _met(after, reaches)
        begin, end = min([first, *(r.edge for r in reaches)]), max([last, *(r.edge for r in reaches)])
    if asked.after == "snap":
        # That it jumps to the grip is wanted, and no fault to be found.
        jumps = [f.key for id, _ in chosen if (f := find_jump(after, id, first))]
        after = after.on(replace(after.take, wanted=tuple(dict.fromkeys((*after.take.wanted, *jumps)))))
    within = asked.tolerance if asked.keys in ("within", "few") and asked.after == "carry" else None
    notes = []
    idle = [n for id, c in chosen if (n := _idle(program, program.bound(*id), c, first, last))]
    if idle:
        notes.append(f"{' and '.join(idle)} drives nothing there, so nothing moves: hand it over first.")
    if others and not asked.along:
        names = ", ".join(program.bound(*id).who for id, _ in others)
        notes.append(
            f"On what it leaves {'hang' if len(others) > 1 else 'hangs'} also {names}: take {_them(others)} along if you like."
        )
    return after.take, prove("retether", program, after, begin, end, tolerance=within, notes=tuple(notes))


_Chosen = list[tuple[tuple[str, str], Control]]


class _Reach(NamedTuple):
    """A part that reaches for something: the system that leads it, when it is there, on which side of that, from or until when."""

    part: tuple[str, str]
    system: str
    at: float
    side: int
    edge: float


def _reaching(program: Program, after: Program, chosen: _Chosen, asked: Retether) -> tuple[Program, list[_Reach]]:
    """The take before it, in which what takes hold comes to be there over some frames before, and is led back from where it lets go
    over as many: its keys stay, all of them as much elsewhere as they are near."""
    first, last = check_stretch(program.take, asked.first, asked.last)
    reaches = []
    for (id, control), (t, side) in product(chosen, ((first, ARRIVING), (last, LEAVING))):
        bound, out = program.bound(*id), 1 if side == LEAVING else -1
        state = bound.state(program.sample([t], side, bound.driver_channels))
        # What plays by itself reaches for nothing, and no joint does.
        inside = program.take.first < t < program.take.last and control.name in bound.controls
        if not inside or state is None or bound.systems[state].system.moves_alone:
            continue
        # What another system drives until then is led there by that.
        own = control in bound.systems[state].controls
        node = bound.controls[control.name].node if own else program.nodes[id[0], control.handle.idle_at]
        # No farther than the same system drives, and not out of what it stands on or holds.
        edges = np.append(program.key_times(bound.driver_channels.tolist()), (program.take.first, program.take.last))
        room = out * (edges - t)
        held = [c for c in program.take.contacts if c.member == id[0] and c.joint in bound.part.joints]
        free = [
            out * ((c.begin if out > 0 else c.end) - t)
            for c in held
            if out * ((c.end if out > 0 else c.begin) - t) > 0.0
        ]
        far = min(asked.reach, float(room[room > 0.0].min()), *free)
        if far <= 0.0:
            continue
        edge = t + out * far
        here = program.evaluate([t], side, only=[node])
        hold = after.bounds[id].controls[control.name].node
        there = after.evaluate([t], LEAVING if side == ARRIVING else ARRIVING, only=[hold])
        turn = multiply(there.rot[0, hold], inverse(here.rot[0, node]))
        ease = Ease(edge, t, t, t) if side == ARRIVING else Ease(t, t, t, edge)
        by = there.pos[0, hold] - here.pos[0, node], turn, 0.0
        # Which way it takes between its keys is its own: no more of them.
        program = program.with_curves(more_of(program, bound, control.name, by, ease, np.inf))
        reaches.append(_Reach(id, state, t, side, edge))
    return program, reaches


def _met(program: Program, reaches: Sequence[_Reach]) -> Program:
    """What reaches for something arrives, and leaves, with the speed that it has there."""
    curves, take, names = dict(program.take.curves), program.take, program.channel_names()
    for r in reaches:
        target = system_target(program, program.bound(*r.part), r.system)
        mine = {names[c]: float(program.defaults[c]) for c in target.channels.tolist()}
        met = curves | {n: insert(curves.get(n, EMPTY), r.edge, default) for n, default in mine.items()}
        if r.side == ARRIVING:
            lead(program, target, met, r.at)
        else:
            join(program, target, met, r.at, 0.0)
        for n, default in mine.items():
            # What is met already keeps its keys.
            was, now = (c.numbers[c.find(r.at) or 0] for c in (insert(curves.get(n, EMPTY), r.at, default), met[n]))
            if np.abs(was - now).max() > SAME:
                curves[n] = met[n]
    return program.with_curves({n: c for n, c in curves.items() if c is not take.curves.get(n)})


def _followed(program: Program, asked: Retether) -> tuple[Program, _Chosen, _Chosen]:
    """The take after it, the parts and controls that follow, and others that hang on what they leave."""
    check_parts(program, asked.parts)
    first, last = check_stretch(program.take, asked.first, asked.last)
    if first == last and last < program.take.last:
        raise CoreError("A follow over a range needs a last frame after its first.")
    check_tolerance(asked.tolerance)
    check_anchor(program, asked.to)
    chosen: list[tuple[tuple[str, str], Control]] = []
    tied: list[Tether | None] = []
    tethers = list(program.take.tethers)
    parts = [(id, control_for(program, program.bound(*id), asked.control, first)) for id in asked.parts]
    others = dependants(program, parts, first)
    for id, control in [*parts, *(others if asked.along else [])]:
        bound = program.bound(*id)
        chosen.append((id, control))
        tied.append(_tether(program, tethers, bound, control, asked, first))
    # With the follow added and nobody following it yet, all is as it was.
    staged = program.on(replace(program.take, tethers=tuple(tethers)))
    curves = dict(staged.take.curves)
    changed = False
    for (id, control), tether in zip(chosen, tied, strict=True):
        changed |= _follow(staged, staged.bound(*id), control, tether, asked, curves, first, last)
    if not changed:
        return program, chosen, others
    after = staged.with_curves({n: c for n, c in curves.items() if c is not staged.take.curves.get(n)})
    after.check_loops()
    return after, chosen, others


def find_jump(program: Program, part: tuple[str, str], at: float) -> Finding | None:
    """The finding of a part that jumps at a frame, if there is one."""
    found = (
        f for f in part_findings(program, program.bound(*part)) if f.frame == at and f.kind in ("pop", "one-sided")
    )
    return next(found, None)


def _them(others: Sequence[object]) -> str:
    return "them" if len(others) > 1 else "it"


def dependants(
    program: Program, parts: Sequence[tuple[tuple[str, str], Control]], first: float
) -> list[tuple[tuple[str, str], Control]]:
    """Other controls that follow at a frame what these follow there, and may want to come along when it is left. Whoever
    stands on the world or on a set piece is no company."""
    stage = {program.nodes[m.id, j.name] for m in program.scene.members if m.kind == "set" for j in m.skeleton.joints}
    held = {(id, c.name) for id, c in parts}
    left = (
        {a for id, c in parts for a in _held_on(program, program.bound(*id), c.name, first)} - stage - {program.world}
    )
    return [
        (bound.id, mine.control)
        for bound in program.bounds.values()
        for name, mine in bound.followers.items()
        if (bound.id, name) not in held and left & set(_held_on(program, bound, name, first))
    ]


def _held_on(program: Program, bound: Bound, name: str, at: float) -> list[int]:
    """Nodes that a control follows at a frame."""
    control = bound.followers.get(name)
    if control is None:
        return []
    return [one.node for one in control.others if np.any(program.now(at, one.switches) > 0.0)]


def _idle(program: Program, bound: Bound, control: Control, first: float, last: float) -> str:
    """The system that a control belongs to, if it drives nowhere in the stretch; else nothing."""
    system = next(n for n, mine in bound.systems.items() if control in mine.controls)
    frames = np.unique(np.append(np.arange(np.ceil(first), last), first))
    driving = bound.driving(program.sample(frames, LEAVING, bound.driver_channels))
    if np.any((driving == list(bound.systems).index(system)) | (driving < 0)):
        return ""
    label = bound.label_of(system)
    return f"{label[0].upper()}{label[1:]} of the {bound.part.label}"


def read(program: Program, to: str) -> str:
    """What is followed, as the animator reads it."""
    return dict(anchors(program)).get(to, to)


def _tether(
    program: Program, tethers: list[Tether], bound: Bound, control: Control, asked: Retether, first: float
) -> Tether | None:
    """The follow that is wanted, added to `tethers` where there is none yet; None for the control's own space."""
    if asked.to == OWN:
        return None
    member, anchor = anchor_of(asked.to)
    there = [t for t in tethers if (t.member, t.control) == (bound.member.id, control.name)]
    there = [t for t in there if (t.anchor_member, t.anchor if member != WORLD else WORLD) == (member, anchor)]
    scales = asked.size == "with"
    whole = [t for t in there if set(t.released) >= wanted_of(bound, control, asked.what) and t.scales == scales]
    if asked.after == "snap":
        tied = _gripped(program, bound, control, member, anchor, first)
        same = [t for t in whole if t.offset is not None and np.allclose(t.offset, tied, atol=1e-9)]
        if same:
            return same[0]
    elif whole and asked.offset == "rest":
        return whole[0]
    tether = replace(new_tether(tethers, bound, control, member, anchor), scales=scales)
    if asked.after == "snap":
        tether = replace(tether, offset=tied)
    elif asked.offset == "here":
        side = ARRIVING if first > program.take.first else LEAVING
        tether = replace(tether, offset=seen_from(program, node_of(program, tether), bound, control, first, side))
    tethers.append(tether)
    return tether


def grips_at(program: Program, member: str, name: str) -> list[Grip]:
    """Grips of the joint of this name, or on which a control of this name rests."""
    if member == WORLD:
        return []
    whose = program.scene.member(member)
    joint = name if name in whose.skeleton.index else program.rig.rests_on(member, name)
    return [g for g in whose.grips if g.joint == joint]


def _gripped(program: Program, bound: Bound, control: Control, member: str, anchor: str, at: float) -> Offset:
    """How a control is tied where a grip of it lies on one of what it follows: of all such the two that are nearest now."""
    mine, theirs = grips_at(program, bound.member.id, control.name), grips_at(program, member, anchor)
    if not mine or not theirs:
        who = bound.who if not mine else read(program, f"{member}/{anchor}" if member != WORLD else "world")
        raise CoreError(f"{who[0].upper()}{who[1:]} has no grip to snap to: keep the motion or ride along instead.")
    nodes = [program.rig.control_node(bound.member.id, control.name), program.nodes[member, anchor]]
    poses = program.evaluate([at], only=nodes)

    def place(node: int, grip: Grip) -> Floats:
        size = program.sizes(poses.times, LEAVING, node)[0]
        found: Floats = poses.pos[0, node] + size * rotate(poses.rot[0, node], np.array(grip.position))
        return found

    pairs = [(float(np.linalg.norm(place(nodes[0], a) - place(nodes[1], b))), k, n) for k, a in enumerate(mine)
             for n, b in enumerate(theirs)]  # fmt: skip
    _, k, n = min(pairs)
    turn = multiply(np.array(theirs[n].rotation), inverse(np.array(mine[k].rotation)))
    # A tie is as at the size of what is followed; the own grip is as far off as its own body makes it.
    own, other = (float(program.sizes(poses.times, LEAVING, node)[0]) for node in nodes)
    x, y, z = map(float, np.array(theirs[n].position) - own / other * rotate(turn, np.array(mine[k].position)))
    qx, qy, qz, qw = map(float, turn)
    return x, y, z, qx, qy, qz, qw


def anchor_of(to: str) -> tuple[str, str]:
    """Member and name of what is followed, as `Retether.to` says it."""
    member, _, name = to.partition("/")
    return (member, name) if to != "world" else (WORLD, WORLD)


def new_tether(tethers: Sequence[Tether], bound: Bound, control: Control, member: str, anchor: str) -> Tether:
    """A follow of a control beside those that there are, tied as at rest."""
    names = {c.name for c in able(bound)}
    taken = {t.name for t in tethers if t.member == bound.member.id and t.control in names}
    name = free_name(anchor if member != WORLD else "world", member, taken)
    released = ("position" in control.releases, "rotation" in control.releases)
    return Tether(name, bound.member.id, control.name, member, anchor, *released)


def seen_from(
    program: Program, node: int, bound: Bound, control: Control, at: float, side: int, *, at_zero: bool = False
) -> Offset:
    """Place and rotation of a control in something, at a moment; the place as at size one. `at_zero`: of where it is with all
    its values at rest, which is its space."""
    size = program.sizes(np.array([at]), side, node)[0]
    if control.handle.computed:
        # It stands where its system shows it, whatever drives.
        system = next(n for n, mine in bound.systems.items() if control in mine.controls)
        zero = {bound.own[control.shows]: 0.0} if at_zero else {}
        nodes = [node, *program.fit_nodes([bound]).tolist()]
        here = program.evaluate([at], side, {**bound.drive_to(system), **zero}, only=nodes)
        place, turn = program.computed(bound, here)[control.name][0], here.rot[0, node]
    else:
        placed = bound.followers.get(control.name)
        what = placed.space if at_zero and placed else program.rig.control_node(bound.member.id, control.name)
        here = program.evaluate([at], side, only=[node, what])
        place, turn = here.pos[0, what], here.rot[0, what]
    return within(here.pos[0, node], here.rot[0, node], place, turn, size)


def within(pos: Floats, rot: Floats, place: Floats, turn: Floats, size: float) -> Offset:
    """A place (3,) and turn (4,) as they are seen from something at pos (3,), rot (4,) of this size."""
    back = inverse(rot)
    x, y, z = map(float, rotate(back, place - pos) / size)
    qx, qy, qz, qw = map(float, multiply(back, turn))
    return x, y, z, qx, qy, qz, qw


def switched(program: Program, bound: Bound, to: str, first: float, last: float) -> Program:
    """The take in which a part's control follows something from first to last with the values that it has: for what
    expresses them anew. `to` as in `Retether`. CoreError where it can't follow that."""
    ends = following(bound)
    if not ends:
        raise CoreError(f"{bound.part.label} has no control that can follow anything.")
    check_anchor(program, to)
    tethers = list(program.take.tethers)
    tether = _tether(program, tethers, bound, ends[-1].control, Retether((bound.id,), to, first, last), first)
    now = program.on(replace(program.take, tethers=tuple(tethers)))
    names = now.channel_names()
    wanted = set() if tether is None else {now.channels[tether.weight_channel(w)] for w in ("position", "rotation")}
    weights = now.bound(*bound.id).controls[ends[-1].control.name].switches
    refuse_locked(now, weights, first, last)
    open_end = last >= program.take.last
    return now.with_curves(
        {
            names[c]: set_over(now.curve(c), first, last, open_end, float(c in wanted), float(now.defaults[c]))
            for c in weights
        }
    )


def check_anchor(program: Program, to: str) -> None:
    if to not in {value for value, _ in anchors(program)}:
        raise CoreError(f"Nothing called {to!r} can be followed: choose a joint or control of the cast, or the world.")


def wanted_of(bound: Bound, control: Control, what: str) -> set[str]:
    """In what a control is to follow: "position", "rotation" or, for "both", all it can. CoreError where it can't."""
    found: set[str] = {w for w in control.releases if what in ("both", w)}
    if not found:
        if not control.is_joint:
            raise CoreError(f"The {control.label} has no turn: only its place can follow something.")
        raise CoreError(
            f"{in_words(control.name)} of {bound.who} stays where it hangs: only its turn can follow something."
        )
    return found


def node_of(program: Program, tether: Tether) -> int:
    """Node of what a tether follows."""
    return program.world if tether.anchor_member == WORLD else program.nodes[tether.anchor_member, tether.anchor]


def _follow(
    program: Program, bound: Bound, described: Control, tether: Tether | None, asked: Retether, curves: Curves,
    first: float, last: float,
) -> bool:  # fmt: skip
    """Lets one part's control follow from first to last. False where it does already, all the way."""
    released = wanted_of(bound, described, asked.what)
    control = bound.followers.get(described.name)
    if control is None:
        # A joint that follows nothing yet is in its own space.
        return False
    wanted = set() if tether is None else {program.channels[tether.weight_channel(w)] for w in released}
    weights = {
        c: float(c in wanted)
        for one in control.others
        for c, what in zip(one.weights, ("position", "rotation"), strict=True)
        if c >= 0 and what in released
    }
    at = np.unique(np.append(np.arange(np.ceil(first), last), [first, last]))
    times = program.key_times(list(weights))
    at = np.union1d(at, times[(times >= first) & (times <= last)])
    now = program.sample(at, channels=np.array(list(weights), dtype=np.int64)) if weights else np.empty((0, len(at)))
    inside = slice(None) if last >= program.take.last or first == last else slice(None, -1)
    if all(np.all(row[inside] == level) for row, level in zip(now, weights.values(), strict=True)):
        return False
    open_end = last >= program.take.last
    target = control_target(program, bound, control.control.name, weights)
    refuse_locked(program, [*target.channels.tolist(), *weights], first, last)
    if not open_end:
        fence(program, curves, target.channels.tolist(), [last])
    if asked.after == "snap":
        names = program.channel_names()
        for c, standard in zip(control.channels, target.mine.standard.tolist(), strict=False):
            default = float(program.defaults[c])
            curves[names[c]] = set_over(curves.get(names[c], EMPTY), first, last, open_end, standard, default)
    elif asked.after == "ride":
        hold(program, target, curves, first, last, Settling("keep" if asked.settle else "stop", asked.settle))
    else:
        placing = Placing(asked.keys, asked.tolerance)
        carry(program, target, curves, first, last, open_end, placing)
    names = program.channel_names()
    for c, level in weights.items():
        curves[names[c]] = set_over(
            curves.get(names[c], EMPTY), first, last, open_end, level, float(program.defaults[c])
        )
    if bound.body and "position" in released:
        _keep_size(program, bound.body, control, tether, curves, first, last, open_end)
    return True


def _keep_size(
    program: Program, body: Body, control: BoundControl, tether: Tether | None, curves: Curves, first: float, last: float,
    open_end: bool,
) -> None:  # fmt: skip
    """Keys the size of a body over a stretch so that it is as large as it was, whatever it takes on from what it follows."""
    name = program.channel_names()[body.size]
    old = program.curve(body.size)
    default = float(program.defaults[body.size])
    frames = np.arange(np.ceil(first), np.floor(last) + 1.0)
    at = np.unique(np.concatenate([[first, last], frames, old.times[(old.times >= first) & (old.times <= last)]]))
    arriving, leaving = (_to_key(program, control, tether, at, side) for side in (ARRIVING, LEAVING))
    now = [sample(old, at, side, default) for side in (ARRIVING, LEAVING)]
    if np.abs(leaving - now[1]).max() <= 1e-9 and np.abs(arriving[1:] - now[0][1:]).max(initial=0.0) <= 1e-9:
        return
    steady = np.ptp(leaving) <= 1e-9 and np.ptp(arriving[1:]) <= 1e-9
    if steady:
        at, arriving, leaving = (x[[0, -1]] for x in (at, arriving, leaving))
    slopes = np.zeros(len(at)) if steady else np.gradient(leaving, at)
    kind = STEPPED if steady else SMOOTH
    rows = np.stack([at, arriving, leaving, slopes], axis=1).tolist()
    keys = [Key(t, a, b, slope, slope, kind, FREE) for t, a, b, slope in rows]
    made = over(old, keys, first, last, default)
    curves[name] = put(without(made, last, np.inf), keys[-1:]) if open_end else made


def _to_key(program: Program, control: BoundControl, tether: Tether | None, at: Floats, side: int) -> Floats:
    """(F,) sizes to key for a body to be as large as it is, once it follows."""
    taken = program.sizes(at, side, node_of(program, tether)) if tether is not None and tether.scales else 1.0
    found: Floats = program.sizes(at, side, control.node) / taken
    return found


#: What of a part is to follow, and in what.
CONTROL = Choice(
    "control", "of it", "name", "", help="Which control or joint of the part: left out, the one that drives."
)
WHAT = Choice(
    "what",
    "follows in",
    "options",
    "both",
    (("both", "all it can"), ("position", "place only"), ("rotation", "turn only")),
    folded=True,
    help="A joint that FK turns stays where it hangs: only its turn follows.",
)


@offered
class Follow(Operation):
    """Lets controls follow something else."""

    id = "retether"
    rank = 14
    carries = True
    label = "Follow"
    applies = "parts"
    help = "The control follows something else from here on; the pose and the speed pass on."
    choices = (
        Choice("to", "follow", "anchor", "world", help="What is followed: choose it here, or click it in the view."),
        Choice(
            "after", "then", "options", "carry",
            (("carry", "keep the motion"), ("ride", "ride along"), ("snap", "snap to the grip")),
            help="The motion goes on as it was; or the control moves with what it follows, from where it is or by the grip.",
        ),
        CONTROL,
        WHAT,
        Choice(
            "along", "others on it", "options", "no", (("no", "stay"), ("yes", "come along")), folded=True,
            help="Whoever else hangs on what is left follows the same from then on; the proof names them.",
        ),
        KEYS,
        *TOLERANCE,
        Choice(
            "offset", "tied", "options", "rest", (("rest", "as at rest"), ("here", "as it is here")), folded=True,
            help="Where the control is in what it follows while all its values are zero, for a new follow.",
        ),
        Choice(
            "size", "size", "options", "own", (("own", "as it is"), ("with", "grows along")), folded=True,
            help="A root or prop takes the size of what it follows on; a hand or foot keeps its place in the world as that "
            "grows with its body.",
        ),
        Choice(
            "reach", "reach for it over", "whole", 0, least=0, most=240, unit="frames", when=("after", ("snap",)),
            help="Frames before, over which it is led there; after a stretch that ends it comes back over as many.",
        ),
        Choice(
            "settle", "settle over", "whole", 4, least=0, most=48, unit="frames", folded=True, when=("after", ("ride",)),
            help="Frames over which the speed fades.",
        ),
    )  # fmt: skip

    def offered_for(self, bound: Bound) -> bool:
        return bool(able(bound))

    def suggest(
        self, program: Program, parts: Parts, first: float, last: float | None, made: Mapping[str, Value]
    ) -> dict[str, Value]:
        """What hangs from nothing is mostly carried by what it follows next, tied as it is there the first time."""
        free = {
            (p[0], c[-1].control.name)
            for p in parts
            if (c := following(program.bound(*p))) and not c[-1].control.hangs_from
        }
        to = made.get("to")
        known = {(t.member, t.control) for t in program.take.tethers if to == f"{t.anchor_member}/{t.anchor}"}
        # A limb reaches for what it takes hold of; a prop is put there.
        found: dict[str, Value] = (
            {"after": "ride", "offset": "rest" if free & known else "here"} if free else {"reach": REACH}
        )
        return found | which_control(program, parts, first)

    def options(self, program: Program, parts: Parts) -> dict[str, tuple[tuple[str, str], ...]]:
        found: dict[str, tuple[tuple[str, str], ...]] = {"to": tuple(anchors(program))}
        if len(parts) == 1:
            # What has a place of its own comes first.
            mine = sorted(able(program.bound(*parts[0])), key=lambda c: not c.own)
            found["control"] = tuple((c.name, c.label) for c in mine)
        return found

    def run(self, program: Program, asked: Asked) -> Outcome:
        c = self.chosen(asked)
        wanted = Retether(
            asked.parts, c["to"], asked.first, asked.last, c["after"], c["keys"], c["offset"], c["settle"],
            c["reach"], tolerance_of(c), c["control"], c["what"], c["along"] == "yes", c["size"],
        )  # fmt: skip
        take, proof = apply(program, wanted)
        shown = []
        for bound in (program.bound(*p) for p in asked.parts):
            mine = next((x for x in able(bound) if x.name == c["control"]), None)
            if mine is not None and mine.handle.computed:
                shown.append(mine.label)
            elif (
                mine is not None
                and mine.own
                and mine.name in bound.part.headings
                and mine.name not in bound.part.joints
            ):
                shown.append(f"{mine.label} of the {bound.part.label}")
        said = f"{shown[0] if shown else labels(program, asked.parts)} follows {read(program, c['to'])}"
        return Outcome(take, proof, f"{said[0].upper()}{said[1:]}, {stretch_words(asked.first, asked.last)}")


def active(program: Program, tether: Tether) -> tuple[float, float] | None:
    """From when to when anything follows by a tether, from before it is dialled in to after it is dialled out: the last frame
    of the take where it goes on beyond it."""
    channels = np.array([program.channels[n] for n in tether.weights], dtype=np.int64)
    if not len(channels):
        return None
    at = np.union1d(program.take.frames, program.key_times(channels.tolist()))
    at = at[(at >= program.take.first) & (at <= program.take.last)]
    on = np.flatnonzero(np.any([program.sample(at, side, channels) > 0.0 for side in (ARRIVING, LEAVING)], axis=(0, 1)))
    if not len(on):
        return None
    first, last = int(on[0]), int(on[-1])
    # Where it arrives already, it was followed since some time after the moment before.
    arrives = bool((program.sample(at[first : first + 1], ARRIVING, channels) > 0.0).any())
    leaves = bool((program.sample(at[last : last + 1], LEAVING, channels) > 0.0).any())
    return float(at[max(first - arrives, 0)]), float(at[min(last + leaves, len(at) - 1)])


def drop(program: Program, part: tuple[str, str], name: str, placing: Placing) -> tuple[Take, Proof]:
    """Takes a follow out of the take; where it was followed the control keeps its motion in its own space."""
    bound = program.bound(*part)
    controls = {c.name for c in able(bound)}
    mine = [t for t in program.take.tethers if t.member == bound.member.id and t.control in controls]
    tether = next((t for t in mine if t.name == name), None)
    if tether is None:
        there = f"it has {', '.join(t.name for t in mine)}" if mine else "it follows nothing in this take"
        raise CoreError(f"{bound.part.label} has no follow called {name!r}: {there}.")
    take = program.take
    # All at once: between the moments at which it is looked at, a weight may be anything.
    if (span := active(program, tether)) is not None:
        last = None if span[1] >= take.last else span[1]
        asked = Retether(
            (part,), OWN, span[0], last, "carry", placing.keys, tolerance=placing.tolerance, control=tether.control
        )
        take = apply(program, asked)[0]
    gone = set(tether.weights)
    curves = {n: c for n, c in take.curves.items() if n not in gone}
    take = replace(take, curves=curves, tethers=tuple(t for t in take.tethers if t != tether))
    after = program.on(take)
    span = active(program, tether) or (float(take.first), float(take.last))
    within = placing.tolerance if placing.keys in ("within", "few") else None
    return take, prove("untether", program, after, *span, tolerance=within)


@offered
class DropFollow(Operation):
    """Takes a follow out of the take."""

    id = "untether"
    carries = True
    label = "Drop a follow"
    applies = "parts"
    help = "The follow leaves the take; where it was followed, the control keeps its motion in its own space."
    choices = (
        Choice("which", "which", "name", "", help="Which follow: left out, the first one that is followed in the stretch."),
        Choice("keys", "where keys are put", "options", "every", KEYS.options),
        *TOLERANCE,
    )  # fmt: skip

    def offered_for(self, bound: Bound) -> bool:
        return any(len(c.anchors) > 1 for c in bound.followers.values())

    def suggest(
        self, program: Program, parts: Parts, first: float, last: float | None, made: Mapping[str, Value]
    ) -> dict[str, Value]:
        there = self._tethers(program, parts)
        end = program.take.last if last is None else last
        live = [t for t in there if (span := active(program, t)) and span[0] <= end and span[1] >= first]
        return {"which": (live or there)[0].name} if there else {}

    def options(self, program: Program, parts: Parts) -> dict[str, tuple[tuple[str, str], ...]]:
        return {"which": tuple((t.name, t.name) for t in self._tethers(program, parts))}

    def run(self, program: Program, asked: Asked) -> Outcome:
        c = self.chosen(asked)
        if len(asked.parts) != 1:
            raise CoreError("Choose one part to drop a follow of.")
        which = c["which"] or self.suggest(program, asked.parts, asked.first, asked.last, {}).get("which", "")
        take, proof = drop(program, asked.parts[0], str(which), Placing(c["keys"], tolerance_of(c)))
        return Outcome(take, proof, f"Drop the follow {which} of {labels(program, asked.parts)}")

    def _tethers(self, program: Program, parts: Parts) -> list[Tether]:
        """Follows of the controls of these parts."""
        mine = {(b.member.id, c.name) for b in (program.bound(*p) for p in parts) for c in able(b)}
        return [t for t in program.take.tethers if (t.member, t.control) in mine]
