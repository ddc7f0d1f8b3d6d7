"""What travels over HTTP. Lengths in metres, angles in radians, times in frames, rotations x y z w."""

from __future__ import annotations

import math
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

from ..core.proof import Proof

Vec3 = tuple[float, float, float]
Quat = tuple[float, float, float, float]
Finite = Annotated[float, Field(allow_inf_nan=False)]
#: A length within a control, metres.
Near = Annotated[float, Field(ge=-100.0, le=100.0, allow_inf_nan=False)]
#: Numbers of scenes, takes and clips, and of revisions: what the database, and JSON, can tell apart.
MOST_ID, MOST_REVISION = 2**31 - 1, 2**53 - 1
Id = Annotated[int, Field(ge=1, le=MOST_ID)]
RevisionId = Annotated[int, Field(ge=1, le=MOST_REVISION)]


class Model(BaseModel):
    model_config = ConfigDict(extra="forbid")


class Asked(Model):
    """What is asked for: texts that can be stored, and numbers that are finite, however deep they lie."""

    @model_validator(mode="before")
    @classmethod
    def _storable(cls, data: Any) -> Any:
        _check_storable(data, "")
        return data


def _check_storable(data: Any, where: str) -> None:
    """ValueError that says where a text has a character that can't be stored, or a number is not finite."""
    if isinstance(data, str):
        if "\0" in data or any("\ud800" <= c <= "\udfff" for c in data):
            raise ValueError(
                f"{where or 'the text'} has a character that can't be stored (NUL, or half of a pair): leave it out"
            )
    elif isinstance(data, float):
        if not math.isfinite(data):
            raise ValueError(f"{where or 'the number'} must be finite")
    elif isinstance(data, dict):
        for key, value in data.items():
            _check_storable(key, f"a name in {where or 'the body'}")
            _check_storable(value, f"{where}.{key}" if where else str(key))
    elif isinstance(data, list):
        for k, value in enumerate(data):
            _check_storable(value, f"{where}.{k}")


class Health(Model):
    service: Literal["well"] = "well"
    database: Literal["well", "away", "slow", "full"]


class Problem(Model):
    """Every error answers with this: what is wrong, where, and what to do."""

    message: str
    line: int | None = None
    token: str | None = None
    head: int | None = None
    changed: list[str] = []


class KeyShown(Asked):
    key: str = Field(max_length=1000)


class TakeEntry(Model):
    id: int
    name: str
    first: int
    last: int
    rate: float
    revisions: int
    keys: int
    contacts: int
    captured: bool
    findings: list[str]


class CharacterEntry(Model):
    id: str
    name: str


class SceneEntry(Model):
    id: int
    name: str
    cast: list[str]
    characters: list[CharacterEntry]
    takes: list[TakeEntry]


class PoseStrip(Model):
    """Small poses of the characters: per frame, thick lines as (from, to) points seen from the front side, and their width."""

    frames: list[float]
    bones: list[list[tuple[float, float, float, float, float]]]


class ShapeInfo(Model):
    joint: str
    form: Literal["capsule", "ball", "block", "ring"]
    colour: str
    a: Vec3
    b: Vec3
    size: list[float]
    turn: Quat


class PartInfo(Model):
    name: str
    label: str
    side: Literal["left", "right", "middle"]
    kind: str
    joints: list[str]
    role: str = ""
    hinge_from: str = ""
    end: bool = Field(description="whether it has an end that can be kept in place")
    stands: bool = Field(description="whether that is a hand or a foot, which stands on things or holds them")
    trail: list[str] = Field(description="joints whose paths show how the part moves")


class GripInfo(Model):
    """Where something is held, in a joint: its place, and the way from there to what is held."""

    name: str
    joint: str
    position: tuple[float, float, float]
    towards: tuple[float, float, float]


class MemberInfo(Model):
    id: str
    name: str
    kind: Literal["character", "prop", "set", "camera"]
    joints: list[str]
    parents: list[int]
    centre: str = Field(description="the joint from which the body branches: a camera goes with it")
    parts: list[PartInfo]
    shapes: list[ShapeInfo]
    notes: list[str]
    grips: list[GripInfo]


class Turns(Model):
    """What dragging a point turns: a control of its part, about the place `about` in it (metres); its marker is drawn `marker`
    away from there, in the control too."""

    control: str
    about: tuple[float, float, float]
    marker: tuple[float, float, float]


class HandleInfo(Model):
    """Something to take hold of in the view. `row`: where it stands in every table of poses; `joined`: row that a line
    joins it to, or null; `along`: row of the joint at the end of its bone, or null. It shows in full strength while
    `system` drives; `always`: also while its part is not in hand; `size`: how large it is drawn, times; `turns`: of a point,
    what is turned about it."""

    member: str
    part: str
    control: str
    label: str
    form: str
    gestures: list[Literal["move", "turn", "swing", "slide"]]
    system: str
    side: str
    row: int
    joined: int | None
    along: int | None
    always: bool
    size: float
    turns: Turns | None


class SystemInfo(Model):
    """A system of a part. `keyed`: keys make it (a capture moves by itself)."""

    name: str
    label: str
    keyed: bool


class RevisionInfo(Model):
    id: int
    number: int
    parent: int | None
    label: str
    name: str | None
    created: str
    proof: Proof | None
    on_path: bool = Field(description="whether the head stands at it or after it")


class StrandKey(Model):
    time: float
    split: bool
    systems: list[str] = Field(description="which systems of the part have a key there")


class Follow(Model):
    """Who is followed by a control of a system from one frame to another, with the greatest weight there; `says` it in words.
    `control`: what of the part follows, where that is not its own control; `turns`: whether only its turn does. `shares`: from
    which frame on it has its share of all that the system's controls follow, from where to where of one."""

    anchor: str
    control: str
    turns: bool
    says: str
    system: str
    first: float
    last: float
    weight: float
    shares: list[tuple[int, float, float]]


class Plank(Model):
    """A contact of a part: on what (`on` as choices name it), from one frame to another, of which of its ends where it has several
    (`of`), with its greatest slip (metres) and turn (radians), and how deep its sole sinks into what it stands on and how high it
    hovers over it at most; `points`: when heel, ball and tip stand, before that and after it too; one after the other where the
    sole is never on."""

    id: str
    anchor: str
    of: str
    on: str
    first: float
    last: float
    slip: float
    turn: float
    depth: float
    hover: float
    points: list[PlankPoint]


class PlankPoint(Model):
    name: str
    first: float
    last: float


class FindingInfo(Model):
    """A fault: `key` names it in operations; from `frame` to `last`, sizes in metres and radians (a frame, for jumps of
    speed). `wanted`: the animator wants it as it is."""

    key: str
    kind: str
    short: str = Field(description="in a word or two")
    repairable: bool
    member: str
    part: str
    frame: float
    last: float
    place: float
    turn: float
    sentence: str
    wanted: bool = False


class Strand(Model):
    """One part across time. `systems` from the lowest level up; `level`: (whole frame, level from there on), 0 for the
    first system, between two where they are mixed; `states`: (whole frame, system that drives from there on, or "both");
    `main`: a part that keys drive in more ways than one; `group`: the rows it folds away with; `operations` that a stretch
    of it is offered."""

    member: str
    part: str
    label: str
    side: str
    kind: str
    main: bool
    group: str
    systems: list[SystemInfo]
    level: list[tuple[int, float]]
    states: list[tuple[int, str]]
    keys: list[StrandKey]
    follows: list[Follow]
    contacts: list[Plank]
    findings: list[FindingInfo]
    operations: list[str]


class RowGroup(Model):
    """Rows that fold away together. `lead`: the part whose row stays, or null where the group has a row of its own."""

    id: str
    label: str
    member: str
    lead: str | None


class LayerPart(Model):
    """Where a layer has keys of a part."""

    member: str
    part: str
    first: float
    last: float


class LayerInfo(Model):
    """Motion on top of a take's; `heard`: whether it counts now; `weights`: keys of its weight, (frame, weight); `stretch`: frames
    outside of which it is nothing."""

    id: str
    name: str
    mute: bool
    solo: bool
    heard: bool
    weights: list[tuple[float, float]]
    stretch: tuple[float, float] | None
    keys: int
    parts: list[LayerPart]


class TakeInfo(Model):
    id: int
    scene_id: int
    scene: str
    name: str
    rate: float
    rate_fraction: tuple[int, int]
    first: int
    last: int
    revision: int
    number: int
    can_undo: bool
    can_redo: bool
    members: list[MemberInfo]
    joints: list[tuple[str, str]] = Field(description="(member, joint) in the order of all pose tables")
    handles: list[HandleInfo]
    rows: int = Field(
        description="rows of all pose tables: the joints, what stands elsewhere, and the sizes of the members"
    )
    sizes: int = Field(description="the first of the rows whose first number is the size of a member, in their order")
    groups: list[RowGroup] = Field(description="groups of strands, in the order of their rows")
    strands: list[Strand]
    findings: list[FindingInfo]
    wanted: list[FindingInfo] = Field(description="findings marked as wanted")
    proof: Proof | None
    label: str
    revision_name: str | None
    parent: int | None = Field(description="the revision before, if there is one")
    layers: list[LayerInfo] = Field(description="from the lowest up")


class FormatInfo(Model):
    """A format that takes go out in: its file ending, what it holds, what it can't hold."""

    ending: str
    label: str
    holds: str
    leaves: str


class TransformsAsked(Asked):
    """Times in frames, at most 2,000; side matters only at split keys."""

    times: Annotated[list[Finite], Field(min_length=1, max_length=2000)]
    side: Literal["arriving", "leaving"] = "leaving"
    member: str | None = None
    revision: RevisionId | None = None
    model_config = ConfigDict(
        extra="forbid",
        json_schema_extra={"examples": [{"times": [117.5, 118], "side": "arriving", "member": "marl"}]},
    )


class Transforms(Model):
    joints: list[tuple[str, str]]
    times: list[float]
    positions: list[list[Vec3]]
    rotations: list[list[Quat]]


class PartRef(Model):
    member: str
    part: str


class KeysNamed(Model):
    """Keys by channel and frames; or by part and frames: then those of all its channels."""

    channel: str | None = None
    part: PartRef | None = None
    times: Annotated[list[Finite], Field(min_length=1, max_length=20000)]


class CurveKey(Model):
    """A key: values in metres or radians, slopes a frame."""

    time: float
    arriving: float
    leaving: float
    slope_in: float
    slope_out: float
    kind: int
    rule: int
    tag: int
    lock: int


class KeyPut(CurveKey):
    """A whole key for a channel."""

    channel: str


class KeyEdit(Model):
    """An edit of named keys: "add" (without changing the curve, then `values`), "delete", "move" by frames and by a
    value (metres, radians or none), "scale" times about a frame, "set" what `values` holds: arriving, leaving,
    slope_in, slope_out (a frame), kind (0 stepped, 1 linear, 2 smooth), rule (0 free, 1 automatic, 2 flat), tag,
    lock; "put" the whole keys in `put`, in place of those at their frames."""

    what: Literal["add", "delete", "move", "scale", "set", "put"]
    keys: Annotated[list[KeysNamed], Field(max_length=2000)] = []
    put: Annotated[list[KeyPut], Field(max_length=20000)] = []
    by: Finite = 0.0
    rise: Finite = 0.0
    about: Finite = 0.0
    factor: Finite = 1.0
    values: dict[str, Finite] = {}


class OperationAsked(Asked):
    """An operation on a stretch of some parts. `last` null means from here on. `choices` are those that
    GET /api/operations describes; what is left out takes its default. A repair names `findings` (none: all), an edit of
    keys has its `edit`, a paste its `clip`; the member of the first part is who it goes to."""

    operation: str
    revision: RevisionId
    parts: Annotated[list[PartRef], Field(max_length=200)] = []
    first: Finite = 0.0
    last: Finite | None = None
    choices: dict[str, str | int | float | bool] = {}
    findings: Annotated[list[str], Field(max_length=2000)] = []
    edit: KeyEdit | None = None
    clip: Id | None = None
    model_config = ConfigDict(
        extra="forbid",
        json_schema_extra={
            "examples": [
                {
                    "operation": "handover", "revision": 1, "parts": [{"member": "marl", "part": "arm.R"}],
                    "first": 118, "last": None, "choices": {"to": "ik", "after": "carry", "keys": "kept", "settle": 4},
                }
            ]
        },
    )  # fmt: skip


class PullTo(Model):
    """A stretch, and where it would bring what is dragged."""

    first: float
    last: float
    place: tuple[float, float, float]


class Pull(Model):
    """Something to drag in the view while an operation is tried."""

    label: str
    at: tuple[float, float, float]
    to: list[PullTo]


class InView(Model):
    """What is shown in the view while an operation is tried: a path with a place for each frame from the first on, what of it can
    be dragged, and the path as it `was`, if that is shown."""

    path: list[tuple[float, float, float]]
    pulls: list[Pull]
    was: list[tuple[float, float, float]]


class ChartLine(Model):
    """A line of a chart, with its points."""

    label: str
    points: list[tuple[float, float]]


class Pick(Model):
    """A choice that is made by picking a place along a chart: what is picked, so many times."""

    choice: str
    times: float


class ChartInfo(Model):
    """Figures to decide by while something is tried: what runs `along` and `up`, where along it stands `now`, and which choices one
    picks there. `wide`: along goes by ratios."""

    along: str
    up: str
    lines: list[ChartLine]
    now: float | None
    picks: list[Pick]
    wide: bool


class StepInfo(Model):
    """One of the steps of a result: each becomes a revision of its own. `kept`: whether its proof finds nothing wrong."""

    label: str
    sentence: str
    kept: bool


class Tried(Model):
    trial: str
    proof: Proof
    sentence: str
    strands: list[Strand]
    in_view: InView | None
    steps: list[StepInfo] = []


class Applied(Model):
    revision: int
    number: int
    label: str
    sentence: str
    proof: Proof | None


class Based(Asked):
    """The revision a writer started from."""

    revision: RevisionId


class GoTo(Based):
    to: RevisionId


class Named(Asked):
    name: Annotated[str, Field(max_length=120)] | None


class Moved(Asked):
    """A control put to a place in the world."""

    member: str
    part: str
    control: str = Field(description="name of the control, as the take's handles tell it")
    position: tuple[Finite, Finite, Finite]
    rotation: tuple[Finite, Finite, Finite, Finite] = (0.0, 0.0, 0.0, 1.0)
    model_config = ConfigDict(extra="forbid")


class DragAsked(Moved):
    """A control put to a place in the world at one frame. `also`: others in hand with it; `keep`: parts whose ends (hands,
    feet, the chest) stay where they are; `about`: the place in the control (metres) about which it turns from its key before
    up to this frame; `layer`: the layer that is keyed, "" the base."""

    revision: RevisionId
    frame: Finite
    also: Annotated[list[Moved], Field(max_length=64)] = []
    keep: Annotated[list[PartRef], Field(max_length=64)] = []
    about: tuple[Near, Near, Near] | None = None
    layer: Annotated[str, Field(max_length=40)] = ""
    model_config = ConfigDict(
        extra="forbid",
        json_schema_extra={
            "examples": [
                {
                    "revision": 1, "frame": 60, "member": "marl", "part": "arm.R", "control": "arm.R.ik",
                    "position": [-0.2, 1.2, 0.35], "rotation": [0, 0, 0, 1],
                }
            ]
        },
    )  # fmt: skip


class Meter(Model):
    """Per frame the greatest one-sided jump of the parts: metres, and metres a frame; and how far what stands of them slips, and
    sinks into what it stands on, metres."""

    frames: list[float]
    pose: list[float]
    speed: list[float]
    slip: list[float]
    depth: list[float]


class CardChannel(Model):
    """A channel at a frame. `label` says it whole, `group` and `short` apart: its control or joint, and what of it. `value` as
    keyed; `fits`: what would reproduce the pose; `kind` says what field it wants."""

    name: str
    label: str
    group: str
    short: str
    unit: str
    kind: str
    locked: bool
    least: float | None
    most: float | None
    value: float
    fits: float
    standard: float = Field(description="its value without keys")
    keyed: bool
    live: bool
    own: float = Field(description="what is keyed of it in the layer that was asked for, or in the base")
    made_of: str = Field(description="where there are layers: what the base and each of them give to it; else empty")


class CardSystem(Model):
    system: str
    label: str
    keyed: bool
    driving: bool
    channels: list[CardChannel]


class Dial(Model):
    """How far a control of a part follows something at a frame: the channels of its weights (place and rotation) and the
    greater of their values, 0 to 1. `control`: the joint whose turn follows, "" for the part's own control."""

    anchor: str
    control: str
    channels: list[str]
    weight: float
    keyed: bool


class Card(Model):
    """A part at a frame. `driver`: the system that drives, or "both"; `says` tells it in words; `idle_place`, `idle_turn`:
    how far the stored idle systems stand from the pose."""

    member: str
    part: str
    label: str
    side: str
    kind: str
    driver: str
    says: str
    systems: list[CardSystem]
    others: list[CardChannel] = Field(description="driver, bend guide, and the weights of what is followed")
    idle_place: float | None
    idle_turn: float | None
    residual: float | None
    follows: list[Follow]
    dials: list[Dial]
    rule: str


class When(Model):
    """A choice matters only while another one has one of these values."""

    choice: str
    values: list[str]


class Choice(Model):
    name: str
    label: str
    kind: Literal["options", "name", "text", "anchor", "point", "take", "whole", "number"]
    options: list[tuple[str, str]] = []
    least: float = 0
    most: float = 0
    default: str | int | float
    unit: str = ""
    folded: bool = False
    help: str = ""
    when: When | None = None


class OperationInfo(Model):
    """`applies`: to a stretch of parts that more than one system can drive, or of any parts; to a part at one frame; to
    findings, keys, a clip, a take, a contact. `to_layer`: whether what it makes goes to the layer in hand."""

    id: str
    label: str
    to_layer: bool
    applies: Literal["systems", "parts", "frame", "findings", "keys", "clip", "take", "contact"]
    help: str
    choices: list[Choice]


class SuggestAsked(Asked):
    """A stretch of parts for which an operation is to suggest its choices; `choices`: those that are made already."""

    operation: str
    revision: RevisionId
    parts: Annotated[list[PartRef], Field(max_length=200)]
    first: Finite = 0.0
    last: Finite | None = None
    choices: dict[str, str | int | float] = {}


class Suggested(Model):
    """Choices to start from, and options that these parts have, where they differ from part to part."""

    choices: dict[str, str | int | float]
    options: dict[str, list[tuple[str, str]]]


class Marked(Based):
    """A finding marked as wanted, or as open again."""

    finding: str
    wanted: bool


class CopyAsked(Asked):
    """Parts of one cast member to copy: a pose where first is last, else a range."""

    revision: RevisionId | None = None
    member: str
    parts: Annotated[list[str], Field(min_length=1, max_length=200)]
    first: Finite
    last: Finite
    name: Annotated[str, Field(max_length=120)] = ""


class ClipInfo(Model):
    """A kept clip: `length` in frames, 0 for a pose."""

    id: int
    name: str
    source: str
    length: float
    parts: list[str]


class Renamed(Asked):
    name: Annotated[str, Field(min_length=1, max_length=120)]


class CurveInfo(Model):
    """A channel with its keys; without keys it has its `default`."""

    channel: str
    label: str
    unit: str
    kind: str
    system: str
    default: float
    keys: list[CurveKey]


class PartDifference(Model):
    """How far one part's joints stand apart, frame by frame: metres."""

    member: str
    part: str
    label: str
    place: list[float]


class Compared(Model):
    """Two revisions, or two takes of one scene, over the frames both have. Per frame the greatest difference of any
    joint: metres and radians; parts in order of their greatest difference. `proof` measures b against a."""

    frames: list[float]
    place: list[float]
    turn: list[float]
    parts: list[PartDifference]
    proof: Proof
    sentence: str
    findings_a: int
    findings_b: int
    keys_a: int
    keys_b: int


class ContactInfo(Model):
    """A contact frame by frame: `should`, where its joint would be without slip; slip, and how deep its sole sinks into what it
    stands on and how high it hovers over it, in metres."""

    id: str
    member: str
    part: str
    joint: str
    anchor: str
    frames: list[float]
    should: list[Vec3]
    slip: list[float]
    depth: list[float]
    hover: list[float]


class TransferAsked(Asked):
    """A character's take to move to another scene's character by name. Prefixes that are not given are proposed; `apply`
    makes the take, else only what would match is told."""

    revision: RevisionId
    member: str
    scene: Id
    target: str
    source_prefix: Annotated[str, Field(max_length=200)] | None = None
    target_prefix: Annotated[str, Field(max_length=200)] | None = None
    name: Annotated[str, Field(max_length=120)] = ""
    apply: bool = False


class LimbSaid(Asked):
    """A limb of a body: the joints between which its segments run, what it is, and whether it bends to the other side."""

    corners: Annotated[list[str], Field(min_length=3, max_length=12)]
    role: Literal["arm", "leg"]
    side: Literal["left", "right"]
    flipped: bool = False


class PointedAt(Asked):
    """A point of the world (metres) on a body as it stands at a frame of what is shown of a part, to which a setting of that
    part is to come."""

    setting: str
    at: tuple[Finite, Finite, Finite]
    frame: Finite = 0.0


class FitAsked(Asked):
    """A body to be fitted: figures by part and setting, and its limbs where they are others than found. `part`: the one whose
    motion is shown; `apply` writes it, else it is only tried. `pointed`: a place of that part that was clicked on the body."""

    settings: dict[str, dict[str, Finite]] = {}
    limbs: Annotated[list[LimbSaid], Field(max_length=40)] | None = None
    part: str = ""
    apply: bool = False
    pointed: PointedAt | None = None


class SettingInfo(Model):
    """One figure of a part, in `unit` (rad, m, or none), between `least` and `most`; `before`: as it is without what is tried.
    `places`: of one that can be pointed at, what it sets, in `joint` (metres)."""

    id: str
    label: str
    unit: str
    value: float
    before: float | None
    least: float
    most: float
    joint: str
    places: list[tuple[float, float, float]]


class FitPart(Model):
    name: str
    label: str
    side: str
    joints: list[str]
    corners: list[str] = Field(description="of a limb, where its segments run: root, bends, end")
    settings: list[SettingInfo]
    moves: bool = Field(description="whether its motion can be shown")


class FitCheck(Model):
    sentence: str
    well: bool


class FitInfo(Model):
    """A body and how it is fitted. `show`: the take that shows how a part moves, and `trial` where its poses are to be had."""

    member: str
    name: str
    scene: str
    parts: list[FitPart]
    limbs: list[LimbSaid]
    joints: list[str]
    parents: list[int]
    notes: list[str]
    checks: list[FitCheck]
    closed: str = Field(description="why its limbs can't be changed; empty where they can")
    changed: bool = Field(description="whether anything is other than it was")
    show: TakeInfo | None
    trial: str | None
    pointed: float | None = Field(description="the figure that was pointed at")


class MismatchInfo(Model):
    """Something that does not match: what it is, its name, and why with what that means."""

    what: str
    name: str
    says: str


class TransferInfo(Model):
    """What came along, or would; `place` and `turn`: how far any joint that both have is from the source (metres, radians).
    `take_id`: the take that was made."""

    sentence: str
    source_prefix: str
    target_prefix: str
    parts: int
    channels: int
    keys: int
    follows: int
    contacts: int
    place: float
    turn: float
    mismatches: list[MismatchInfo]
    take_id: int | None


class ImportedInfo(Model):
    scene_id: int
    take_id: int
    notes: list[str]
    parts: list[str] = Field(description="parts that can be handed over between systems of keys")


class FileInfo(Model):
    """A file that was written."""

    name: str
    media: str
    size: int = Field(description="bytes")


class Result(Model):
    """What came of work."""

    imported: ImportedInfo | None = None
    file: FileInfo | None = Field(default=None, description="what was written: it is at `/api/jobs/{id}/file`")


class JobInfo(Result):
    """Work that a worker does, with its result once it is done. It is `coming` while its file is on its way."""

    id: int
    kind: str
    state: Literal["coming", "waiting", "running", "done", "failed", "cancelled"]
    done: float = Field(description="the share that is behind, 0 to 1")
    doing: str = Field(description="what is at work")
    problem: Problem | None = None
