"""Colours of bodies and set pieces by tone, the same in the view and in files."""

from __future__ import annotations

#: sRGB by the names that shapes use.
TONES: dict[str, str] = {
    "skin": "#e2ae8a", "jersey": "#e9dfc8", "trousers": "#4d6372", "boot": "#5a4334", "belt": "#7a5b3d",
    "scarf": "#b3452f", "cap": "#31505c", "capband": "#e3a53b", "beard": "#8a5a35", "ink": "#22282c",
    "left": "#2d5fa8", "right": "#a8501a", "plank": "#c9a97c", "plank2": "#bd9c6f", "hull": "#6d5140",
    "hulltrim": "#8d3f2c", "rail": "#8c6a48", "stone": "#a9a493", "stone2": "#bdb8a6", "iron": "#454c4f",
    "rope": "#d8b877", "glow": "#f2c14e", "limb": "#d9a27c", "trunk": "#8fa39a",
    "smock": "#9db58c", "smocktrim": "#6f7f4f", "breeches": "#8a6a5c", "clog": "#8f6b45", "skin2": "#c98f68",
    "kerchief": "#7a5a8c", "hair": "#3b2d28", "strap": "#a5522f", "crate": "#c39a63",
    "fur": "#cfc4b0", "fur2": "#8b7257", "horn": "#4a423a",
}  # fmt: skip


def colour_of(tone: str) -> str:
    """The colour of a tone as #rrggbb; a plain clay where the name is not known."""
    return TONES.get(tone, "#b0a898")
