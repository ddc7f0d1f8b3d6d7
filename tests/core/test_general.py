"""Nobody outside a part's or a system's own file knows which it is: the search that counts who does, and why."""

from __future__ import annotations

import ast
import re
import unittest

from tests.servers import ROOT
from yielding_tether.core.described import CAPTURED
from yielding_tether.core.parts import PARTS

#: Where parts and systems are at home, and what is made of them on purpose: bodies of our own and what warms the kernels.
HOMES = ("core/parts/", "core/systems/", "core/kernels/", "demo/", "warm.py", "store/migrations/")
#: How often a file may know, and why.
ALLOWED = {
    "core/described.py": (5, "gives every part the capture as one more system, where a member has one"),
    "core/rig.py": (1, "a part with one keyed system takes that wherever no capture is asked for"),
    "core/proposal.py": (11, "proposes parts for a bare skeleton: making them is its work"),
    "service/schemas.py": (1, "the example of a handover in the description of the service"),
    "core/takes.py": (1, "makes a place that the animator made a member of the cast: parts can't know of members"),
    "core/tones.py": (1, "a tone of bodies that stored scenes name; no part"),
    "core/clips.py": (1, "the word by which stored clips call any control, since they could not be pasted otherwise"),
}


def names() -> tuple[set[str], set[str]]:
    """Classes of parts and systems, and the words by which they are stored."""
    classes, words = {type(CAPTURED).__name__, "CAPTURED"}, {CAPTURED.name}
    for kind, part in PARTS.items():
        classes.add(part.__name__)
        words.add(kind)
    for file in (ROOT / "yielding_tether/core/systems").glob("*.py"):
        for node in ast.walk(ast.parse(file.read_text())):
            if isinstance(node, ast.ClassDef) and any(getattr(b, "id", "") == "System" for b in node.bases):
                classes.add(node.name)
                words |= {
                    str(s.value.value) for s in node.body
                    if isinstance(s, ast.Assign) and getattr(s.targets[0], "id", "") == "name" and isinstance(s.value, ast.Constant)
                }  # fmt: skip
    return classes, words


def knowing() -> dict[str, list[str]]:
    """Lines of code that name a part or a system, by file; words count where they are compared, given or looked up."""
    classes, words = names()
    found: dict[str, list[str]] = {}
    base = ROOT / "yielding_tether"
    for file in sorted(base.rglob("*.py")):
        name = file.relative_to(base).as_posix()
        if name.startswith(HOMES):
            continue
        text = file.read_text()
        lines = text.splitlines()
        for node in ast.walk(ast.parse(text)):
            at = getattr(node, "lineno", 0)
            known = isinstance(node, ast.Name) and node.id in classes and isinstance(node.ctx, ast.Load)
            known |= isinstance(node, ast.Constant) and node.value in words - {"free", "joints", "place"}
            if known and not lines[at - 1].lstrip().startswith(("from ", "import ")):
                found.setdefault(name, []).append(f"{at}: {lines[at - 1].strip()}")
    for file in sorted((ROOT / "web/src").rglob("*.ts*")):
        name = file.relative_to(ROOT).as_posix()
        if "/generated/" in name:
            continue
        literal = re.compile("[\"'`](" + "|".join(sorted(words - {"free", "joints", "place"})) + ")[\"'`]")
        for at, line in enumerate(file.read_text().splitlines(), 1):
            if literal.search(line) or re.search(r"/\\\.(ik|fk) ", line):
                found.setdefault(name, []).append(f"{at}: {line.strip()}")
    return found


class General(unittest.TestCase):
    def test_nobody_else_knows_which_part_or_system_it_is(self) -> None:
        found = knowing()
        for name, lines in found.items():
            most, why = ALLOWED.get(name, (0, "no reason"))
            print(f"{name}: {len(set(lines))} ({why})")
            self.assertLessEqual(len(set(lines)), most, [name, *lines])
        self.assertEqual(set(found), set(ALLOWED), "a reason that is not needed any more")

    def test_the_search_finds_who_knows(self) -> None:
        classes, words = names()
        self.assertLessEqual({"LimbPart", "FkPart", "FreePart", "ChainPart", "TwoSegment", "Captured"}, classes)
        self.assertLessEqual({"limb", "chain", "ik", "fk", "captured"}, words)
