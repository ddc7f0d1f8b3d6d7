"""Runs lint, types, the freshness of generated types, and all tests; ends with "N passed, N failed".

Names after `python -m tests.run` choose tests, as unittest takes them; without names everything runs, slow test
modules beside one another on the machine's cores.
"""

from __future__ import annotations

import json
import os
import resource
import statistics
import subprocess
import sys
import tempfile
import time
import traceback
import unittest
from collections import deque
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import TextIO

from tests.nursery import Nursery

ROOT = Path(__file__).resolve().parents[1]
BIN = Path(sys.executable).parent

STEPS: dict[str, tuple[list[str], Path]] = {
    "ruff": ([str(BIN / "ruff"), "check", "yielding_tether", "tests", "measures", "scripts"], ROOT),
    "ruff format": ([str(BIN / "ruff"), "format", "--check", "-q", "yielding_tether", "tests", "measures", "scripts"], ROOT),
    "mypy": ([str(BIN / "mypy")], ROOT),
    "eslint": (["npx", "--no-install", "eslint", "src", "tests/unit", "--max-warnings", "0",
                "--cache", "--cache-location", "../.cache/eslint"], ROOT / "web"),
    "typescript": (["node", "node_modules/typescript-native/bin/tsc", "--noEmit", "--incremental",
                    "--tsBuildInfoFile", "../.cache/typescript"], ROOT / "web"),
    "vitest": (["npx", "--no-install", "vitest", "run", "--dir", "tests/unit", "--reporter=json"], ROOT / "web"),
    "licences": ([sys.executable, "scripts/licences.py", "--check"], ROOT),
    "types of the API": ([sys.executable, "-m", "tests.run", "--api-types"], ROOT),
}  # fmt: skip


def api_types() -> int:
    """Whether the committed TypeScript types are those of the service as it is; `--write` makes them so."""
    from yielding_tether.service.app import create_app
    from yielding_tether.store.store import Store

    spec = create_app(Store("postgresql+psycopg://nobody@127.0.0.1:1/none")).openapi()
    generated = ROOT / "web/src/generated/api.ts"
    source = ROOT / ".cache/openapi.json"
    source.write_text(json.dumps(spec))
    made = subprocess.run(
        ["npx", "--no-install", "openapi-typescript", str(source)],
        cwd=ROOT / "web",
        capture_output=True,
        text=True,
        check=True,
    ).stdout
    if "--write" in sys.argv:
        generated.write_text(made)
        return 0
    if generated.read_text() != made:
        print("web/src/generated/api.ts is not what the service says: run python -m tests.run --api-types --write")
        return 1
    return 0


def modules() -> list[str]:
    """Test modules, the slowest first."""
    found = sorted(ROOT.glob("tests/*/test_*.py"))
    names = [".".join(p.relative_to(ROOT).with_suffix("").parts) for p in found]
    slow = (
        "test_whole", "test_day", "test_parts", "interface", "test_start", "test_kills", "test_hostile", "service",
        "test_planted", "test_mutations", "test_findings", "test_mended", "test_sizes", "test_contract", "test_contacts",
    )  # fmt: skip
    return sorted(names, key=lambda n: next((k for k, s in enumerate(slow) if s in n), len(slow)))


def run_step(name: str) -> tuple[int, int, int, str]:
    command, folder = STEPS[name]
    began = time.monotonic()
    done = subprocess.run(command, cwd=folder, capture_output=True, text=True, check=False)
    ok = done.returncode == 0
    passed, failed = int(ok), int(not ok)
    if name == "vitest" and done.stdout.lstrip().startswith("{"):
        told = json.loads(done.stdout)
        passed, failed = told["numPassedTests"], max(told["numFailedTests"], failed)
    print(f"{'ok    ' if ok else 'FAILED'} {name} in {time.monotonic() - began:.0f} s", flush=True)
    return passed, failed, 0, "" if ok else f"{name}\n{done.stdout}{done.stderr}"


class Worker:
    """A process that runs test modules one after another: it imports, loads kernels and starts its database once."""

    def __init__(self) -> None:
        self.start()

    def start(self) -> None:
        self.process = subprocess.Popen(
            [sys.executable, "-m", "tests.run", "--worker"],
            cwd=ROOT,
            text=True,
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
        )

    def run(self, name: str) -> tuple[int, int, int, str]:
        assert self.process.stdin and self.process.stdout
        began = time.monotonic()
        self.process.stdin.write(name + "\n")
        self.process.stdin.flush()
        line = self.process.stdout.readline()
        if line:
            passed, failed, skipped, text, cores = json.loads(line)
        else:
            passed, failed, skipped, text, cores = 0, 1, 0, f"The process ended with {self.process.wait()}.", 0
            self.start()
        print(
            f"{'FAILED' if failed else 'ok    '} {name}: {passed} passed in {time.monotonic() - began:.0f} s, "
            f"of which cores worked {cores:.0f} s",
            flush=True,
        )
        return passed, failed, skipped, f"{name}\n{text}" if failed else ""

    def end(self) -> None:
        assert self.process.stdin
        self.process.stdin.close()
        self.process.wait()


def as_worker() -> int:
    """Runs the modules whose names come in, line by line; all they print goes into the line that tells how it went."""
    answers = os.fdopen(os.dup(1), "w")
    for name in sys.stdin:
        with tempfile.TemporaryFile("w+") as said:
            for stream in (1, 2):
                os.dup2(said.fileno(), stream)
            before = worked()
            counts = counted(name.strip(), said)
            said.flush()
            said.seek(0)
            print(json.dumps([*counts, said.read(), worked() - before]), file=answers, flush=True)
    return 0


def worked() -> float:
    """Seconds that cores have worked so far for this process and for those it has started and waited for."""
    used = [resource.getrusage(who) for who in (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN)]
    return sum(u.ru_utime + u.ru_stime for u in used)


def counted(name: str, said: TextIO) -> tuple[int, int, int]:
    """Passed, failed and skipped tests of a module."""
    try:
        result = unittest.TextTestRunner(said, verbosity=1).run(unittest.defaultTestLoader.loadTestsFromName(name))
    except Exception:
        traceback.print_exc(file=said)
        return 0, 1, 0
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    return max(0, result.testsRun - failed - len(result.skipped)), failed, len(result.skipped)


def in_process(names: list[str]) -> int:
    result = unittest.TextTestRunner(verbosity=1).run(unittest.defaultTestLoader.loadTestsFromNames(names))
    return int(not result.wasSuccessful())


def in_rows() -> list[tuple[int, int, int, str]]:
    """Everything, in three rows side by side: browsers one after another, modules that start programs and mostly wait for them,
    and all else; a row that has nothing left helps the others, but only one has a browser open until nothing else is left.
    """
    names = modules()
    browsers = deque(n for n in names if "interface" in n)
    waiting = deque(n for n in names if "service" in n)
    # What can't be shared comes first: at the end it would leave a core with nothing to do.
    others: deque[str] = deque([*STEPS, *(n for n in names if n not in {*browsers, *waiting})])
    results: list[tuple[int, int, int, str]] = []

    def work(rows: list[Callable[[], str]]) -> None:
        worker = Worker()
        for take in rows:
            while True:
                try:
                    name = take()
                except IndexError:
                    break
                results.append(run_step(name) if name in STEPS else worker.run(name))
        worker.end()

    with Nursery(), ThreadPoolExecutor(3) as pool:
        for done in [
            pool.submit(work, [browsers.popleft, others.popleft, waiting.popleft]),
            pool.submit(work, [waiting.popleft, others.popleft, browsers.pop]),
            pool.submit(work, [others.popleft, waiting.pop]),
        ]:
            done.result()
    return results


class Pace:
    """How fast the machine is while the tests run, as `measures.pace` tells it."""

    def __init__(self) -> None:
        self.said = tempfile.TemporaryFile("w+")  # noqa: SIM115
        command = [sys.executable, "-m", "measures.pace"]
        self.process = subprocess.Popen(command, cwd=ROOT, stdin=subprocess.PIPE, stdout=self.said)
        self.began = time.monotonic()

    def words(self) -> str:
        """Seconds that went by, and how many that would be where bounds in seconds were set."""
        took = time.monotonic() - self.began
        self.process.communicate()
        self.said.seek(0)
        # The last line may be half written.
        told = [[float(x) for x in line.split()] for line in self.said if line.endswith("\n")]
        if not told:
            return f"{took:.0f} s"
        slower = statistics.fmean(t[0] for t in told)
        stolen = (told[-1][1] - told[0][1]) / (took * (os.cpu_count() or 1))
        return (
            f"{took:.0f} s, {100 * stolen:.0f} % of which the host took, on a machine {slower:.2f} times as slow as where bounds "
            f"were set (mean of {len(told)} looks): {took * (1.0 - stolen) / slower:.0f} s there."
        )


def main() -> int:
    """Runs what the arguments say; returns an exit code."""
    if "--api-types" in sys.argv:
        return api_types()
    if "--worker" in sys.argv:
        return as_worker()
    if sys.argv[1:]:
        return in_process(sys.argv[1:])
    pace = Pace()
    results = in_rows()
    for _, _, _, text in results:
        if text:
            print("-" * 100, text, sep="\n")
    print(pace.words())
    passed, failed, skipped = (sum(r[k] for r in results) for k in range(3))
    print(f"{passed} passed, {failed} failed" + (f", {skipped} skipped" if skipped else ""))
    return int(failed > 0)


if __name__ == "__main__":
    sys.exit(main())
