"""Lists what ships with the program, with its licence, in docs/licences.md: `python scripts/licences.py [--check]`."""

from __future__ import annotations

import json
import re
import sys
from importlib.metadata import metadata
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
LISTED = ROOT / "docs/licences.md"


def python_packages() -> list[tuple[str, str, str]]:
    """Name, version and licence of what running needs."""
    found = []
    for name, version in re.findall(r"^([\w.-]+)==([\w.]+)", (ROOT / "requirements.lock").read_text(), re.MULTILINE):
        try:
            told = metadata(name)
        except ModuleNotFoundError:
            # Wanted on other systems only.
            continue
        kinds = [c.rsplit(" :: ", 1)[1] for c in told.get_all("Classifier") or [] if c.startswith("License :: OSI")]
        said = told.get("License-Expression") or ", ".join(kinds) or (told.get("License") or "not told").splitlines()[0]
        found.append((name, version, said))
    return found


def npm_packages() -> list[tuple[str, str, str]]:
    """Name, version and licence of what the built page is made of."""
    lock = json.loads((ROOT / "web/package-lock.json").read_text())
    found = []
    for path, entry in lock["packages"].items():
        if path and not entry.get("dev") and not entry.get("optional") and not entry.get("peer"):
            found.append((path.rsplit("node_modules/", 1)[1], entry["version"], entry.get("license", "not told")))
    return sorted(set(found))


def listing() -> str:
    rows = ["# Licences of what ships", "", "Made by `scripts/licences.py`; the tests hold it to the lock files.", ""]
    for title, packages in (("Python packages", python_packages()), ("Packages in the page", npm_packages())):
        rows += [f"## {title}", "", "| package | version | licence |", "| --- | --- | --- |"]
        rows += [f"| {name} | {version} | {licence} |" for name, version, licence in packages]
        rows.append("")
    return "\n".join(rows)


if __name__ == "__main__":
    if "--check" in sys.argv:
        if LISTED.read_text() != listing():
            sys.exit(f"{LISTED.relative_to(ROOT)} is not what ships: run python scripts/licences.py")
    else:
        LISTED.write_text(listing())
