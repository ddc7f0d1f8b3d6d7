"""Parts: what a body is made of. A part owns joints and an ordered list of systems that can drive them.

Importing this package registers all parts; a new one is a file here and a line below.
"""

from __future__ import annotations

from .anchor import AnchorPart
from .arm import ArmPart, ChainArmPart, Shrug, arm_of
from .centre import CentrePart
from .chain import Bends, ChainPart, limb_of
from .hand import Finger, HandPart
from .joints import FkPart
from .leg import ChainLegPart, Footed, LegPart, Sole, leg_of
from .limb import LimbPart
from .neck import NeckPart
from .part import PARTS, Part, Side
from .root import FreePart
from .twist import TwistPart

__all__ = [
    "PARTS",
    "AnchorPart",
    "ArmPart",
    "Bends",
    "CentrePart",
    "ChainArmPart",
    "ChainLegPart",
    "ChainPart",
    "Finger",
    "FkPart",
    "Footed",
    "FreePart",
    "HandPart",
    "LegPart",
    "LimbPart",
    "NeckPart",
    "Part",
    "Shrug",
    "Side",
    "Sole",
    "TwistPart",
    "arm_of",
    "leg_of",
    "limb_of",
]
