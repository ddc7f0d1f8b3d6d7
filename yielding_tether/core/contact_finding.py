"""Finding contacts: when heel, ball and tip of a foot, or a palm stand on things or hold them, in clean and noisy motion.

Each point's way in each thing that it may stand on is looked at by itself. A rest is where its speed is low, with hysteresis,
on a signal smoothed as much as its own noise asks for; edges are then put where a place that stays goes over into a way that
leaves it best explains the samples, so that smoothing moves none. What is nearest and moves least is what it stands on.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import NamedTuple

import numpy as np

from .cast import Member, Shape
from .contacts import Spot, ends_of, spots_of
from .curves import LEAVING
from .program import Poses, Program
from .progress import advance
from .rig import Bound
from .shapes import signed_distance
from .takes import WORLD, Contact, Standing
from .transforms import Floats, inverse, multiply, rotate

#: A point comes to rest below the first of these speeds and leaves above the second, body heights a second: of a body 1.7 m
#: tall it rests below 48 mm a second.
REST, LEAVE = 0.028, 0.07
#: Rests shorter than this are passings-by, seconds.
LEAST = 0.17
#: How far a point may be from what it stands on, body heights, and from ground that nobody told.
GAP, GUESSED = 0.018, 0.03
#: A point stands on a set piece where that is at hand, but for one that moves this many times as much under it as the world.
CLEARLY = 1.5
#: How much farther from its joint than at rest a surface may be, as where fingers straighten.
FARTHER = 1.25
#: The share of frames on which a world without set pieces is reached by its lowest end: that height is the ground.
GROUND = 0.02
#: Smoothing (seconds) is as little as brings the noise of the speed below this share of that of a rest, and no more than this.
CALM, MOST = 0.4, 0.075
#: The share of the smallest second differences from which noise is told: what stands and what flies evenly is among them.
QUIET = 0.3
#: Seconds around a moment whose second differences are looked at, and the share of moments that may be noisier than what counts.
ABOUT, MOSTLY = 1.5, 0.9
#: How far a point may creep from where it mostly is while it rests: body heights, and multiples of its noise.
CREEP, STRAY = 0.006, 5.0
#: Seconds after an edge in which it is put exactly, and how many more for each body height of noise: as long as the way that
#: leaves is about a square of time, and long enough to stand out; at least so many samples, one more where there is noise (body
#: heights) to speak of.
AROUND, WIDER, FEWEST, SPEAKS = 0.05, 62.0, 4, 2e-4
#: Seconds before an edge from which the place is told.
WITHIN = 0.2
#: What is no way at all beside that (body heights).
STILL = 3e-4
#: By how many variances of the noise a later edge may explain worse and is taken all the same: an earlier one is always freer.
LATER = 5.0
#: For this long (seconds), and so many frames, a tip stands alone at least that is told from its ball.
ALONE, TOLD = 0.1, 3
#: How much farther than its tip a ball is from what they rest on that is up, body heights.
TILTED = 0.01
#: Two rests of a point with less than this between them (seconds), nearer than this (body heights), are one.
BREATH, NEAR = 0.12, 0.008


class End(NamedTuple):
    """A hand, a foot or a fingertip: its part, its joint, what of it rests, and points on its surface (P, 3) in joints (P,), which
    are within `reach` (metres) of its joint."""

    bound: Bound
    joint: str
    spots: tuple[Spot, ...]
    surface: Spot
    tip: bool = False
    reach: float = 0.0


class Rest(NamedTuple):
    """First and last index of frames at which a spot rests on an anchor, and how far it strays there (metres)."""

    first: int
    last: int
    strays: float


def find(program: Program, parts: Sequence[tuple[str, str]] | None = None, loose: float = 1.0) -> list[Contact]:
    """Contacts of the ends of these parts, or of all, with set pieces and the ground; joint by joint in order of time. loose: how
    many times as much as usual what counts as rest may move, and be off what it stands on."""
    frames = program.take.frames
    rate = float(program.take.rate)
    ends = [e for b in program.bounds.values() if parts is None or b.id in parts for e in _ends(b)]
    least = max(2, round(LEAST * rate))
    if len(frames) <= least or not ends:
        return []
    surfaces = [(m, s) for m in program.scene.members if m.kind == "set" for s in m.shapes]
    ground = 0.0 if surfaces else _ground(program, [e for e in ends if not e.tip] or ends)
    # A set piece before the world: where it does not move both fit as well.
    anchors: list[tuple[str, str]] = [*dict.fromkeys((m.id, s.joint) for m, s in surfaces), (WORLD, WORLD)]
    found: list[Contact] = []
    for k, end in enumerate(ends):
        advance(k / len(ends))
        member = end.bound.member
        own = program.nodes[member.id, end.joint]
        # A body that grows is as large as it mostly is.
        sizes = program.sizes(frames, LEAVING, own)
        tall, reach = float(np.median(sizes)) * _height(member), float(sizes.max()) * end.reach
        rests: dict[str, list[tuple[tuple[str, str], Rest]]] = {}
        for n, spot in enumerate(end.spots):
            beyond = end.spots[2:] if n == 1 else ()
            tried: list[tuple[float, tuple[str, str], Rest]] = []
            for anchor in anchors:
                node = program.world if anchor[0] == WORLD else program.nodes[anchor]
                way = _way(program, spot, member.id, node)
                mine = [s for m, s in surfaces if (m.id, s.joint) == anchor]
                gap = loose * (GAP if surfaces else GUESSED) * tall
                if not program.rig.slot_of(node) and _far(way[:, :3], reach, mine, ground) > gap:
                    # What never comes near is not looked at any closer.
                    continue
                for rest in _rests(way, rate, tall, least, loose):
                    touching = spot if spot.name else end.surface
                    there = frames[rest.first : rest.last + 1]
                    off, *tips = (_gap(program, member.id, s, node, mine, ground, there) for s in (touching, *beyond))
                    # A ball that is that much farther off than its tip is up.
                    if off <= gap and off - min(tips, default=off) <= TILTED * tall:
                        tried.append((rest.strays * (1.0 if mine else CLEARLY) + 1e-9, anchor, rest))
            # It stands on one thing at a time: on that in which it moves least.
            taken: list[tuple[tuple[str, str], Rest]] = []
            for _, anchor, rest in sorted(tried, key=lambda t: t[0]):
                if all(rest.last < r.first or rest.first > r.last for _, r in taken):
                    taken.append((anchor, rest))
            rests[spot.name] = sorted(taken, key=lambda t: t[1].first)
        found += _together(member.id, end, rests, frames, least, max(TOLD, round(ALONE * rate)))
    return _by_themselves(program, ends, found)


def _by_themselves(program: Program, ends: Sequence[End], found: Sequence[Contact]) -> list[Contact]:
    """The contacts without those of fingertips while the hand that they hang from stands or holds, as the take or this says."""
    tips = {(e.bound.member.id, e.joint): e.bound.member.skeleton for e in ends if e.tip}

    def held(c: Contact) -> bool:
        if (bones := tips.get((c.member, c.joint))) is None:
            return False
        hands = {
            o.joint for o in (*found, *program.take.contacts)
            if o.member == c.member and o.joint != c.joint and o.begin <= c.end and o.end >= c.begin
        }  # fmt: skip
        return any(bones.index[c.joint] in bones.descendants(bones.index[h]) for h in hands)

    return [c for c in found if not held(c)]


# --- ends and their points ------------------------------------------------------------------------------


def _ends(bound: Bound) -> list[End]:
    """The ends of a part with their points: of a foot heel, ball and tip of its sole; of any other its joint and three points that
    tell how it turns; and those of the body's shapes, or its joints and tips."""
    found, spots = [], spots_of(bound)
    for control in ends_of(bound):
        member, joint = bound.member, control.control.rests_on
        surface, size = _surface(member, joint), 0.0
        if not spots:
            bones = member.skeleton
            places, turns = bones.rest_pose
            at = [bones.index[n] for n in surface.joints]
            reach = places[at] + rotate(turns[at], surface.points) - places[bones.index[joint]]
            size = float(np.linalg.norm(reach, axis=1).max(initial=0.0)) or 0.05 * _height(member)
            points = np.concatenate([np.zeros((1, 3)), size / np.sqrt(2.0) * np.eye(3)])
        mine = spots or (Spot("", (joint,) * 4, points),)
        found.append(End(bound, joint, mine, surface, control.control.tip, FARTHER * size))
    return found


def _surface(member: Member, joint: str) -> Spot:
    """Points on the surface of an end: those of the body's shapes, or joints and tips."""
    bones = member.skeleton
    below = sorted(bones.descendants(bones.index[joint]))
    names = [bones.joints[k].name for k in below]
    found: list[tuple[str, Floats]] = []
    for shape in member.shapes:
        if shape.joint in names:
            found += [(shape.joint, p) for p in _support(shape)]
    if not found:
        for k in below:
            found.append((bones.joints[k].name, np.zeros(3)))
            tip = bones.joints[k].tip
            if tip is not None:
                found.append((bones.joints[k].name, np.asarray(tip, dtype=np.float64)))
    return Spot("", tuple(n for n, _ in found), np.array([p for _, p in found]))


def _support(shape: Shape) -> list[Floats]:
    """Points on a shape's surface along its own axes."""
    a, b = np.asarray(shape.a), np.asarray(shape.b)
    if shape.form in ("ball", "block"):
        half = np.asarray(shape.size) * (1.0 if shape.form == "ball" else 0.5)
        if len(half) == 1:
            half = np.repeat(half, 3)
        turn = np.asarray(shape.turn)
        return [a + rotate(turn, s * half * axis) for axis in np.eye(3) for s in (-1.0, 1.0)]
    if shape.form == "ring":
        return [a]
    return [end + r * s * axis for end, r in ((a, shape.size[0]), (b, shape.size[-1]))
            for axis in np.eye(3) for s in (-1.0, 1.0)]  # fmt: skip


def places_of(program: Program, member: str, spot: Spot, poses: Poses) -> Floats:
    """(F, P, 3) the points of a spot in the world."""
    of = [program.nodes[member, n] for n in spot.joints]
    points = np.broadcast_to(spot.points, (len(poses.times), *spot.points.shape))
    size = poses.size(program.rig.slot_of(of[0]))
    if size is not None:
        points = points * size[:, None, None]
    found: Floats = poses.pos[:, of] + rotate(poses.rot[:, of], points)
    return found


def _way(program: Program, spot: Spot, member: str, node: int) -> Floats:
    """(F, D) the points of a spot, one after another, in what they may stand on, frame by frame."""
    frames = program.take.frames
    of = [program.nodes[member, n] for n in dict.fromkeys(spot.joints)]
    pos, rot = program.track(frames, LEAVING, [node, *of])
    back = inverse(rot[:, 0])
    grows = program.sizes(frames, LEAVING, node)
    held = (float(np.median(grows)) / grows)[:, None]
    size = program.sizes(frames, LEAVING, of[0])[:, None]
    ways = []
    for joint, point in zip(spot.joints, spot.points, strict=True):
        k = 1 + list(dict.fromkeys(spot.joints)).index(joint)
        place = rotate(back, pos[:, k] - pos[:, 0]) * held
        ways.append(place + size * rotate(multiply(back, rot[:, k]), point))
    return np.concatenate(ways, axis=1)


def _gap(
    program: Program, member: str, spot: Spot, node: int, shapes: Sequence[Shape], ground: float, frames: Floats
) -> float:
    """Distance (metres) between points and the nearest of some shapes in a node, or the ground where there are none: over these
    frames the median."""
    if len(frames) > 9:
        frames = frames[np.linspace(0, len(frames) - 1, 9).astype(int)]
    of = {program.nodes[member, n] for n in spot.joints}
    poses = program.evaluate(frames, only=[node, *of])
    spots = places_of(program, member, spot, poses)
    if not shapes:
        return float(np.median(np.abs(np.min(spots[..., 1], axis=1) - ground)))
    grown = program.sizes(frames, LEAVING, node)
    local = rotate(inverse(poses.rot[:, node])[:, None], spots - poses.pos[:, node][:, None]) / grown[:, None, None]
    gaps = [grown * np.maximum(signed_distance(shape, local), 0.0).min(axis=1) for shape in shapes]
    return float(np.median(np.min(gaps, axis=0)))


def _far(places: Floats, reach: float, shapes: Sequence[Shape], ground: float) -> float:
    """How far (metres) what is within reach of places (F, 3) in a thing stays from its shapes, or from the ground, at least."""
    off = np.min([signed_distance(s, places) for s in shapes], axis=0) if shapes else places[:, 1] - ground
    return float(off.min()) - reach


def _ground(program: Program, ends: Sequence[End]) -> float:
    """Height of the ground where no set piece tells it: that which the lowest end reaches again and again."""
    frames = program.take.frames[:: max(1, len(program.take.frames) // 2000)]
    lowest = np.full(len(frames), np.inf)
    for end in ends:
        member = end.bound.member.id
        for spot in end.spots if end.spots[0].name else (end.surface,):
            poses = program.evaluate(frames, only=list({program.nodes[member, n] for n in spot.joints}))
            lowest = np.minimum(lowest, places_of(program, member, spot, poses)[..., 1].min(axis=1))
    return float(np.quantile(lowest, GROUND))


def _height(member: Member) -> float:
    """How large a body is at rest: the greatest extent of its joints along an axis, metres."""
    places = member.skeleton.rest_pose[0]
    return max(float(np.ptp(places, axis=0).max()), 1e-6)


# --- rests of one way -----------------------------------------------------------------------------------


def noise_of(way: Floats, rate: float) -> float:
    """Standard deviation (metres an axis) of the white noise of samples (F, D): from their second differences, of which the small
    ones around each moment are those of what stands. Where some of the motion has none, since it was planted say, that of the
    rest."""
    # Takes long to import, and a start does not wait for it.
    from scipy.ndimage import percentile_filter
    from scipy.special import gammaincinv

    if len(way) < 8:
        return 0.0
    second = ((way[2:] - 2.0 * way[1:-1] + way[:-2]) ** 2).sum(axis=1)
    around = min(max(8, round(ABOUT * rate)), len(second))
    small = percentile_filter(second, 100.0 * QUIET, size=around, mode="nearest")
    most = float(np.quantile(small, MOSTLY))
    # Of points of one body three axes count, they share their noise; the quantile of chi squared of three is known.
    there = float(np.median(small[small >= 0.25 * most]))
    return float(np.sqrt(there / (12.0 * gammaincinv(1.5, QUIET) * way.shape[1] / 3.0)))


def _rests(way: Floats, rate: float, tall: float, least: int, loose: float = 1.0) -> list[Rest]:
    """Rests of one way (F, D), in order of time; loose: as of `find`."""
    from scipy.ndimage import gaussian_filter1d

    points = way.shape[1] // 3
    noise = noise_of(way, rate)
    # The speed of the points together: the greatest of a single one.
    wanted = CALM * REST * tall
    blur = min((3.0 * noise**2 / (4.0 * np.sqrt(np.pi) * rate * wanted**2)) ** (1.0 / 3.0), MOST)
    if blur * rate < 0.5:
        velocity, blur = np.gradient(way, axis=0) if len(way) > 1 else np.zeros_like(way), 0.5 / rate
        left = noise * np.sqrt(0.5 * 3.0)
    else:
        velocity = gaussian_filter1d(way, blur * rate, axis=0, order=1, mode="nearest")
        left = noise * np.sqrt(3.0 / (4.0 * np.sqrt(np.pi) * (blur * rate) ** 3))
    speed = np.linalg.norm(velocity.reshape(len(way), points, 3), axis=2).max(axis=1) * rate
    left *= rate
    low, high = loose * max(REST * tall, 2.5 * left), loose * max(LEAVE * tall, 4.5 * left)
    runs = _runs(speed, low, high, max(2, round(least - 2.0 * blur * rate)))
    runs = _joined(runs, way, round(BREATH * rate), NEAR * tall + 2.0 * noise)
    reach = max(FEWEST + (noise > SPEAKS * tall), round((AROUND + WIDER * noise / tall) * rate))
    found = []
    for run in runs:
        a, b = _kept(way, *run, loose * max(CREEP * tall, STRAY * noise))
        first, last = (_edge(way, a, b, out, rate, (noise, reach, STILL * tall + 0.5 * noise)) for out in (-1, 1))
        if last - first >= least:
            place = way[first : last + 1].mean(axis=0)
            strays = float(np.sqrt(((way[first : last + 1] - place) ** 2).sum(axis=1).mean() / points))
            found.append(Rest(first, last, strays))
    return found


def _runs(speed: Floats, low: float, high: float, least: int) -> list[tuple[int, int]]:
    """Runs (first, last) of samples at which a speed (F,) stays low; a single fast one does not end it."""
    calm = speed.copy()
    if len(speed) > 2:
        calm[1:-1] = np.sort([speed[:-2], speed[1:-1], speed[2:]], axis=0)[1]
    found = []
    start: int | None = None
    for k, v in enumerate([*calm.tolist(), np.inf]):
        if start is None and v < low:
            start = k
        elif start is not None and v > high:
            # It left where it was last at rest, not where it is fast enough to be sure.
            end = k - 1
            while end > start and calm[end] > low:
                end -= 1
            if end - start >= least:
                found.append((start, end))
            start = None
    return found


def _joined(runs: list[tuple[int, int]], way: Floats, breath: int, near: float) -> list[tuple[int, int]]:
    """Runs with those together that a short unrest parts and that are at one place."""
    found: list[tuple[int, int]] = []
    for a, b in runs:
        if found and a - found[-1][1] <= breath:
            c, d = found[-1]
            apart = np.linalg.norm((way[a : b + 1].mean(axis=0) - way[c : d + 1].mean(axis=0)).reshape(-1, 3), axis=1)
            if apart.max() <= near:
                found[-1] = (c, b)
                continue
        found.append((a, b))
    return found


def _kept(way: Floats, first: int, last: int, most: float) -> tuple[int, int]:
    """A run without what of its ends has crept farther than that (metres) from where it mostly is."""
    away = np.linalg.norm(
        (way[first : last + 1] - np.median(way[first : last + 1], axis=0)).reshape(last - first + 1, -1, 3), axis=2
    )
    near = np.flatnonzero(away.max(axis=1) <= most)
    return (first + int(near[0]), first + int(near[-1])) if len(near) else (first, last)


def _edge(way: Floats, first: int, last: int, out: int, rate: float, told: tuple[float, int, float]) -> int:
    """The sample at which a rest ends (out = 1) or begins (-1): the last one before which the place that is kept, and after which a
    way that leaves it with the square of time, explain what is around about as well as any (least squares). told: the noise
    (metres), how many samples after it, and what is no way at all (metres)."""
    noise, reach, still = told
    at = last if out > 0 else first
    inner = max(min(round(WITHIN * rate), (last - first) // 2), 2)
    samples = np.arange(at - out * inner, at + out * (reach + 1), out)
    samples = samples[(samples >= 0) & (samples < len(way))]
    if len(samples) - inner < 4:
        # It lasts to the end of the motion.
        return int(samples[-1]) if len(samples) > inner else at
    seen = way[samples]
    seen = seen - seen[: max(inner - round(0.04 * rate), 2)].mean(axis=0)
    kept = np.cumsum((seen**2).sum(axis=1))
    edges = np.arange(2, len(samples) - 3)
    errors = np.empty(len(edges))
    for n, edge in enumerate(edges):
        u = np.arange(1.0, len(samples) - edge) ** 2
        gone = seen[edge + 1 :]
        errors[n] = kept[edge] + (gone**2).sum() - ((u @ gone) ** 2).sum() / (u @ u)
    away = np.linalg.norm(seen.reshape(len(seen), -1, 3), axis=2).max(axis=1)
    if samples[-1] in (0, len(way) - 1) and away[inner:].max() <= still + STRAY * noise:
        # It is there to the end of the motion, too short a time to tell a way that leaves.
        return int(samples[-1])
    best = int(edges[np.flatnonzero(errors <= errors.min() + LATER * noise**2 + 1e-15)[-1]])
    # A way that leaves by a jump is no square: what is at the place still is of the rest.
    while best + 1 < len(samples) and away[best + 1] <= still:
        best += 1
    return int(samples[best])


# --- points together ------------------------------------------------------------------------------------


def _together(
    member: str, end: End, rests: dict[str, list[tuple[tuple[str, str], Rest]]], frames: Floats, least: int, alone: int
) -> list[Contact]:  # fmt: skip
    """Contacts of an end from the rests of what is of it: of a foot the sole is on while heel and ball are, the heel before it and
    ball and tip after it, in the end the tip where that stands alone for so many frames (`alone`); ball, tip or heel alone where
    that is all."""
    names = list(rests)
    if len(names) == 1:
        return [
            Contact(member, end.joint, *anchor, float(frames[r.first]), float(frames[r.last]))
            for anchor, r in rests[names[0]]
        ]
    found: list[Contact] = []
    rear, fore = names[:2]
    for anchor in dict.fromkeys(a for mine in rests.values() for a, _ in mine):
        behind, balls = ([r for a, r in rests[n] if a == anchor] for n in (rear, fore))
        used: set[int] = set()
        for ahead in _united([r for n in names[1:] for a, r in rests[n] if a == anchor]):
            # Without a toe of its own a tip does not stay where it is while the ball stands.
            up = ahead.last if end.spots[0].joints == end.spots[-1].joints else _up(balls, ahead, alone)

            def after(rest: Rest, up: int = up) -> dict[str, Rest]:
                parts = {
                    fore: rest._replace(last=min(rest.last, up)),
                    names[-1]: rest._replace(first=max(rest.first, up)),
                }
                return {n: r for n, r in parts.items() if r.last > r.first}

            mine = [h for h in behind if min(h.last, ahead.last) - max(h.first, ahead.first) >= max(2, least // 2)]
            if not mine and ahead.last - ahead.first >= least:
                found.append(_contact(member, end.joint, anchor, frames, (ahead.first, ahead.last), after(ahead)))
            for n, heel in enumerate(mine):
                used.add(id(heel))
                flat = max(heel.first, ahead.first), min(heel.last, ahead.last)
                # Where the heel comes down again the ball is that of the one before up to there.
                begins = ahead.first if n == 0 else flat[0]
                until = ahead.last if n == len(mine) - 1 else max(mine[n + 1].first - 1, flat[1])
                whose = {rear: heel, **after(ahead._replace(first=begins, last=until), max(up, flat[1]))}
                found.append(_contact(member, end.joint, anchor, frames, flat, whose))
        for heel in behind:
            if id(heel) not in used and heel.last - heel.first >= least:
                found.append(_contact(member, end.joint, anchor, frames, (heel.first, heel.last), {rear: heel}))
    return sorted(_apart(found), key=lambda c: c.first)


def _united(rests: list[Rest]) -> list[Rest]:
    """Rests of ball and tip, those that overlap as one."""
    found: list[Rest] = []
    for rest in sorted(rests, key=lambda r: r.first):
        if found and rest.first <= found[-1].last:
            found[-1] = found[-1]._replace(last=max(found[-1].last, rest.last))
        else:
            found.append(rest)
    return found


def _up(balls: list[Rest], ahead: Rest, alone: int) -> int:
    """From which index on a ball is up while its tip stands on, at the end of a rest of both: its last one where it is not, or for
    fewer frames than tell it."""
    up = max((b.last for b in balls if b.first <= ahead.last and b.last >= ahead.first), default=ahead.first)
    return up if ahead.last - up >= alone else ahead.last


def _contact(
    member: str, joint: str, anchor: tuple[str, str], frames: Floats, flat: tuple[int, int], whose: dict[str, Rest]
) -> Contact:
    points = tuple(Standing(n, float(frames[r.first]), float(frames[r.last])) for n, r in whose.items())
    alike = len(points) > 1 and all(
        abs(p.first - frames[flat[0]]) <= 1 and abs(p.last - frames[flat[1]]) <= 1 for p in points
    )
    made = Contact(member, joint, *anchor, float(frames[flat[0]]), float(frames[flat[1]]))
    return made if alike else replace(made, points=points)


def _apart(found: list[Contact]) -> list[Contact]:
    """Contacts of one end with those left out that a longer one overlaps."""
    kept: list[Contact] = []
    for one in sorted(found, key=lambda c: c.first - c.last):
        if all(one.last < c.first or one.first > c.last for c in kept):
            kept.append(one)
    return kept
