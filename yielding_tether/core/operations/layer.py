"""Layers as operations: one is made, named, muted, heard alone, put higher or lower, weighted, copied, merged down, taken away."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from typing import Any

from ..curves import FLAT, FREE, SMOOTH, Curve, Key, curve, insert, put
from ..errors import CoreError
from ..layers import can_layer, fences, flattened, layer_of, with_layer
from ..program import Program
from ..proof import prove
from ..takes import Layer, Take
from .operation import Asked, Choice, Operation, Outcome, check_parts, check_stretch, labels, offered

#: Most layers of a take, and letters of a name.
MOST, LONGEST = 20, 60
#: Least and greatest weight of a layer.
WEIGHTS = (-2.0, 2.0)

_DO = (
    ("add", "make a new one"), ("rename", "rename"), ("mute", "mute"), ("unmute", "unmute"), ("solo", "hear alone"),
    ("unsolo", "hear with the others"), ("up", "put one higher"), ("down", "put one lower"),
    ("level", "weight all along"), ("weight", "weight from here on"), ("unweigh", "no weight of its own here"),
    ("key", "key it here"),
    ("copy", "copy"), ("merge", "merge down"), ("merge all", "merge all"), ("remove", "take away"),
)  # fmt: skip


#: What is done to one of them.
_OF_ONE = tuple(n for n, _ in _DO if n not in ("add", "merge all"))


@offered
class Layers(Operation):
    """What happens to the layers of a take."""

    id = "layer"
    label = "Layers"
    applies = "take"
    under = "as is"
    help = "Motion on top of motion: a layer is posed and keyed by itself, muted, weighted and merged down."
    choices = (
        Choice("do", "do", "options", "add", _DO),
        Choice("which", "which", "text", "", help="The layer, by its id.", when=("do", _OF_ONE)),
        Choice("called", "called", "text", "", help="Its name.", when=("do", ("add", "rename", "copy"))),
        Choice(
            "weight", "weight", "number", 1.0, least=WEIGHTS[0], most=WEIGHTS[1], when=("do", ("level", "weight")),
            help="How far it counts: all along, or from this frame on, eased from the weight before.",
        ),
        Choice(
            "fenced", "fenced", "options", "no", (("no", "all along"), ("yes", "within the stretch alone")), when=("do", ("add",)),
            help="Whether it is nothing outside of the stretch.",
        ),
    )  # fmt: skip

    def run(self, program: Program, asked: Asked) -> Outcome:
        c = self.chosen(asked)
        take = program.take
        first, last = check_stretch(take, asked.first, asked.last)
        do = c["do"]
        if do == "add":
            made, said = _added(take, c, (first, last)), "Make layer {}"
            name = made.layers[-1].name
        elif do == "merge all":
            if not program.layering.layers:
                raise CoreError("The take has no layer that is heard, so there is nothing to merge.")
            # What is not heard stays as it is.
            made = replace(flattened(program), layers=tuple(x for x in take.layers if x not in program.layering.layers))
            name, said = "all layers", "Merge {}"
        else:
            layer = layer_of(take, c["which"])
            made, said = _DOES[do](program, layer, {**c, "frame": first, "parts": asked.parts})
            name = next((x.name for x in made.layers if x.id == layer.id), layer.name)
        return Outcome(
            made, prove(self.id, program, program.on(made), float(take.first), float(take.last)), said.format(name)
        )


def _added(take: Take, c: Mapping[str, Any], stretch: tuple[float, float]) -> Take:
    if len(take.layers) >= MOST:
        raise CoreError(f"The take has {MOST} layers already: merge or remove one first.")
    made = Layer(_id(take), _name(take, c["called"], ""), stretch=stretch if c["fenced"] == "yes" else None)
    return replace(take, layers=(*take.layers, made))


def _id(take: Take) -> str:
    taken = {x.id for x in take.layers}
    return next(f"layer{k}" for k in range(1, MOST + 2) if f"layer{k}" not in taken)


def _name(take: Take, wanted: str, mine: str) -> str:
    """A name for a layer; CoreError where it can't have it."""
    called = " ".join(wanted.split())
    taken = {x.name for x in take.layers if x.id != mine}
    if len(called) > LONGEST:
        raise CoreError(f"The name of a layer has at most {LONGEST} letters.")
    if called in taken:
        raise CoreError(f"The take has a layer called {called!r} already: give this one another name.")
    return called or next(n for n in ("untitled", *(f"untitled {k}" for k in range(2, MOST + 2))) if n not in taken)


def _rename(program: Program, layer: Layer, c: Mapping[str, Any]) -> tuple[Take, str]:
    return with_layer(
        program.take, replace(layer, name=_name(program.take, c["called"] or layer.name, layer.id))
    ), "Name layer {}"


def _marked(**marks: bool) -> Callable[[Program, Layer, Mapping[str, Any]], tuple[Take, str]]:
    words = {
        "mute": ("Unmute layer {}", "Mute layer {}"),
        "solo": ("Hear layer {} with the others", "Hear layer {} alone"),
    }
    ((mark, on),) = marks.items()
    said = words[mark][on]
    return lambda program, layer, _: (with_layer(program.take, replace(layer, **{mark: on})), said)  # type: ignore[arg-type]


def _moved(by: int) -> Callable[[Program, Layer, Mapping[str, Any]], tuple[Take, str]]:
    def move(program: Program, layer: Layer, _: Mapping[str, Any]) -> tuple[Take, str]:
        layers = list(program.take.layers)
        at = layers.index(layer)
        to = min(max(at + by, 0), len(layers) - 1)
        layers.insert(to, layers.pop(at))
        return replace(program.take, layers=tuple(layers)), f"Put layer {{}} {'higher' if by > 0 else 'lower'}"

    return move


def _weight(program: Program, layer: Layer, c: Mapping[str, Any]) -> tuple[Take, str]:
    old = layer.weight if len(layer.weight) else curve([Key(float(program.take.first), 1.0, 1.0, rule=FREE)])
    made = put(old, [Key(float(c["frame"]), float(c["weight"]), float(c["weight"]), 0.0, 0.0, SMOOTH, FLAT)])
    return with_layer(
        program.take, replace(layer, weight=made)
    ), f"Weigh layer {{}} {float(c['weight']):g} at frame {c['frame']:g}"


def _level(program: Program, layer: Layer, c: Mapping[str, Any]) -> tuple[Take, str]:
    weight = float(c["weight"])
    at = float(program.take.first)
    level = curve([Key(at, weight, weight, rule=FREE)] if weight != 1.0 else [])
    return with_layer(program.take, replace(layer, weight=level)), f"Weigh layer {{}} {weight:g} all along"


def _unweigh(program: Program, layer: Layer, c: Mapping[str, Any]) -> tuple[Take, str]:
    frame = float(c["frame"])
    if layer.weight.find(frame) is None:
        raise CoreError(f"The weight of the layer {layer.name} has no key at frame {frame:g}.")
    left = curve([k for k in layer.weight.all_keys() if k.time != frame])
    return with_layer(
        program.take, replace(layer, weight=left)
    ), f"Weight of layer {{}} without its key at frame {frame:g}"


def _key(program: Program, layer: Layer, c: Mapping[str, Any]) -> tuple[Take, str]:
    """Keys that change nothing: of what the layer has of these parts, or of what drives them where it has nothing."""
    check_parts(program, c["parts"])
    frame, names, kept = float(c["frame"]), program.channel_names(), dict(layer.curves)
    for part in c["parts"]:
        bound = program.bound(*part)
        own = {int(x) for x in bound.own.values() if names[int(x)] in kept}
        driving = bound.state(program.now(frame, bound.driver_channels)[:, None])
        if not own and driving is None:
            raise CoreError(
                f"{bound.who} is half-driven at frame {frame:g}: let one system drive there before keying it."
            )
        for x in own or [int(x) for x in bound.systems[str(driving)].channels if can_layer(program, int(x))]:
            kept[names[x]] = insert(kept.get(names[x], fences(layer)), frame, 0.0)
    return with_layer(
        program.take, replace(layer, curves=kept)
    ), f"Key {labels(program, c['parts'])} on layer {{}} at frame {frame:g}"


def _copy(program: Program, layer: Layer, c: Mapping[str, Any]) -> tuple[Take, str]:
    take = program.take
    if len(take.layers) >= MOST:
        raise CoreError(f"The take has {MOST} layers already: merge or remove one first.")
    made = replace(layer, id=_id(take), name=_name(take, c["called"] or f"{layer.name[: LONGEST - 7]} copied", ""))
    at = take.layers.index(layer) + 1
    return replace(take, layers=(*take.layers[:at], made, *take.layers[at:])), "Copy layer {}"


def _merge(program: Program, layer: Layer, _: Mapping[str, Any]) -> tuple[Take, str]:
    """Merged with the layer below, or into the base where it is the lowest."""
    take = program.take
    at = take.layers.index(layer)
    lower = take.layers[at - 1] if at else None
    alone = (replace(lower, mute=False, solo=False),) if lower else ()
    # By itself, on what lies beneath it.
    beneath = replace(take, layers=(*alone, replace(layer, mute=False, solo=False)))
    if lower is None:
        merged = flattened(program.on(beneath))
        return replace(merged, layers=take.layers[1:]), "Merge layer {} down"
    nothing = replace(beneath, curves={n: _rest(program, n) for x in beneath.layers for n in x.curves})
    made = replace(lower, curves=_of_layers(flattened(program.on(nothing)), beneath), weight=Layer("", "").weight)
    return replace(take, layers=(*take.layers[: at - 1], made, *take.layers[at + 1 :])), "Merge layer {} down"


def _rest(program: Program, name: str) -> Curve:
    """A base that is nothing."""
    return curve([Key(float(program.take.first), 0.0, 0.0, rule=FREE)])


def _of_layers(merged: Take, of: Take) -> dict[str, Curve]:
    """Curves of what any of the layers moves."""
    names = {n for x in of.layers for n in x.curves}
    siblings = {n[:-1] + axis for n in names for axis in "xyz" if n[-2:] in ("rx", "ry", "rz")}
    return {n: merged.curves[n] for n in names | siblings if n in merged.curves}


def _remove(program: Program, layer: Layer, _: Mapping[str, Any]) -> tuple[Take, str]:
    return replace(program.take, layers=tuple(x for x in program.take.layers if x is not layer)), "Take layer {} away"


_DOES: dict[str, Callable[[Program, Layer, Mapping[str, Any]], tuple[Take, str]]] = {
    "rename": _rename, "mute": _marked(mute=True), "unmute": _marked(mute=False), "solo": _marked(solo=True),
    "unsolo": _marked(solo=False), "up": _moved(1), "down": _moved(-1), "level": _level, "weight": _weight, "unweigh": _unweigh,
    "key": _key, "copy": _copy,
    "merge": _merge, "remove": _remove,
}  # fmt: skip
