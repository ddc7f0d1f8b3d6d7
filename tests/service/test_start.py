"""The program as `./start` runs it: its own cluster, two copies side by side, a second one refused, clean ends."""

from __future__ import annotations

import os
import random
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path
from unittest import mock

import httpx

from tests.depth import DEPTH
from tests.nursery import Started, start
from tests.servers import ROOT, ask, socket_to
from yielding_tether.service.settings import Settings
from yielding_tether.store.cluster import Cluster, ClusterError, free_port

PROGRAM = "yielding_tether"


class Starting(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="tether-start-"))
        self.folder.chmod(0o755)
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)

    @classmethod
    def setUpClass(cls) -> None:
        """A state folder as a first start leaves it: those who need one take a copy."""
        cls.kept = Path(tempfile.mkdtemp(prefix="tether-ready-"))
        cls.kept.chmod(0o755)
        cls.addClassCleanup(shutil.rmtree, cls.kept, ignore_errors=True)
        maker = cls()
        maker.folder = cls.kept
        port = free_port()
        process = maker.start("state", port)
        maker.wait(port)
        process.terminate()
        process.wait(60)

    def ready(self, state: str) -> None:
        subprocess.run(["cp", "-a", str(self.kept / "state"), str(self.folder / state)], check=True)

    def start(self, state: str, port: int, real: bool = False, **more: str) -> subprocess.Popen[bytes] | Started:
        environment = {
            **os.environ,
            "YIELDING_TETHER_PORT": str(port),
            "YIELDING_TETHER_STATE": str(self.folder / state),
            **more,
        }
        if "YIELDING_TETHER_DATABASE_URL" not in more:
            environment.pop("YIELDING_TETHER_DATABASE_URL", None)
        with (self.folder / "said").open("w") as said:
            process = start(PROGRAM, environment, said.fileno(), real)

        def end() -> None:
            process.terminate()
            process.wait(60)

        self.addCleanup(end)
        self.last = process
        return process

    def said(self) -> str:
        """What the program that was started last has said."""
        return (self.folder / "said").read_text()

    def wait(self, port: int, seconds: float = 180.0) -> dict:  # type: ignore[type-arg]
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            try:
                return ask.get(f"http://127.0.0.1:{port}/api/health").json()  # type: ignore[no-any-return]
            except httpx.TransportError:
                if self.last.poll() is not None:
                    self.fail(f"the program ended with {self.last.poll()}: {self.said()}")
                time.sleep(0.1)
        self.fail(f"the program did not answer: {self.said()}")

    def test_two_copies_do_not_disturb_one_another_and_what_one_wrote_survives_its_end(self) -> None:
        ports = free_port(), free_port()
        self.ready("a")
        self.ready("b")
        first, second = self.start("a", ports[0]), self.start("b", ports[1])
        for port in ports:
            self.assertEqual(self.wait(port), {"service": "well", "database": "well"})
        scene = ask.get(f"http://127.0.0.1:{ports[0]}/api/scenes").json()[0]
        ask.delete(f"http://127.0.0.1:{ports[0]}/api/scenes/{scene['id']}").raise_for_status()
        ask.post(f"http://127.0.0.1:{ports[1]}/api/takes/1/pose", json={
            "revision": 1, "frame": 20, "member": "marl", "part": "hips", "control": "hips", "position": [0, 0.8, 0],
        }).raise_for_status()  # fmt: skip
        # A third one on the first's folder is told, and harms nothing.
        third = self.start("a", free_port())
        self.assertEqual(third.wait(60), 1)
        self.assertIn("already uses", self.said())
        # What a killed one leaves is taken over, and its database with it.
        second.kill()
        second.wait()
        self.assertEqual(self.wait(ports[0])["database"], "well")
        self.start("b", ports[1])
        self.assertEqual(self.wait(ports[1])["database"], "well")
        self.assertEqual(ask.get(f"http://127.0.0.1:{ports[1]}/api/takes/1").json()["number"], 1)
        first.terminate()
        first.wait(60)
        # Nothing is left running in the folder.
        cluster = Cluster(self.folder / "a" / "cluster")
        self.assertNotEqual(
            cluster._run("pg_ctl", "-D", str(cluster.folder / "data"), "status", check=False).returncode, 0
        )

    def test_a_first_start_that_is_killed_at_any_moment_is_begun_again(self) -> None:
        rng = random.Random(3)
        for n in range(DEPTH):
            state = f"x{n}"
            for _ in range(3):
                # Loading is a moment too.
                process = self.start(state, free_port(), real=True)
                time.sleep(rng.uniform(0.2, 3.5))
                process.kill()
                process.wait()
            port = free_port()
            self.start(state, port)
            self.assertEqual(self.wait(port)["database"], "well")
            scenes = ask.get(f"http://127.0.0.1:{port}/api/scenes").json()
            self.assertEqual(
                [s["name"] for s in scenes],
                [
                    "Chain ferry",
                    "Ferry by night",
                    "Ferry at the quay",
                    "Ferry at the landing",
                    "Quay wall",
                    "Towpath",
                    "Ferry in rough water",
                    "Ferry with cargo",
                ],
            )

    def test_what_a_killed_start_left_at_work_is_in_nobodys_way(self) -> None:
        """Making a cluster and starting a server go on for a while without the program that asked for it."""
        for n, moment in enumerate(("data.new*/global", "data/postmaster.pid")):
            cluster = Cluster(self.folder / f"c{n}")
            self.addCleanup(cluster.stop, "immediate")
            code = f"from {Cluster.__module__} import *; Cluster(Path({str(cluster.folder)!r})).start()"
            with subprocess.Popen([sys.executable, "-c", code], cwd=ROOT) as killed:
                while not list(cluster.folder.glob(moment)) and killed.poll() is None:
                    time.sleep(0.002)
                self.assertIsNone(killed.poll())
                killed.kill()
            # What somebody else left there is not ours to remove.
            mine = cluster.folder / "notes.newest"
            mine.write_text("an afternoon's work")
            cluster.start()
            self.assertTrue(cluster._answers(), moment)
            self.assertTrue(mine.exists())

    def test_files_that_a_start_did_not_make_are_never_removed(self) -> None:
        port = free_port()
        self.ready("m")
        data = self.folder / "m" / "cluster" / "data"
        version = (data / "PG_VERSION").read_bytes()
        (data / "PG_VERSION").unlink()
        (data / "mine.txt").write_text("an afternoon's work")
        second = self.start("m", port)
        self.assertEqual(second.wait(60), 1)
        self.assertIn("PG_VERSION is missing", self.said())
        self.assertEqual((data / "mine.txt").read_text(), "an afternoon's work")
        (data / "PG_VERSION").write_bytes(version)
        shutil.chown(data / "PG_VERSION", data.stat().st_uid)
        self.start("m", port)
        self.assertEqual(self.wait(port)["database"], "well")

    def test_any_wish_to_stop_ends_everything_whatever_is_open(self) -> None:
        self.ready("s")
        for sign in (signal.SIGTERM, signal.SIGINT, signal.SIGHUP):
            port = free_port()
            process = self.start("s", port)
            self.wait(port)
            with (
                socket_to(f"ws://127.0.0.1:{port}/api/takes/1/live"),
                socket.create_connection(("127.0.0.1", port)) as half,
            ):
                half.sendall(b"POST /api/takes/1/undo HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 99\r\n\r\n{")
                process.send_signal(sign)
                self.assertEqual(process.wait(60), 0, sign)
            cluster = Cluster(self.folder / "s" / "cluster")
            status = cluster._run("pg_ctl", "-D", str(cluster.folder / "data"), "status", check=False)
            self.assertNotEqual(status.returncode, 0, sign)

    def test_what_hinders_a_start_is_told_in_a_sentence(self) -> None:
        taken = socket.socket()
        self.addCleanup(taken.close)
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        (self.folder / "file").write_text("no folder")
        nowhere = "postgresql://nobody@127.0.0.1:1/none"
        for words, port, more in (
            (r"Port \d+ can't be used: Address already in use", taken.getsockname()[1], {}),
            (
                "can't be written to: Not a directory",
                free_port(),
                {"YIELDING_TETHER_STATE": str(self.folder / "file" / "x")},
            ),
            (
                "YIELDING_TETHER_DATABASE_URL names can't be used",
                free_port(),
                {"YIELDING_TETHER_DATABASE_URL": nowhere},
            ),
            (
                "YIELDING_TETHER_DATABASE_URL names can't be used",
                free_port(),
                {"YIELDING_TETHER_DATABASE_URL": "nonsense"},
            ),
            ("YIELDING_TETHER_WORKERS is '0': use a number", free_port(), {"YIELDING_TETHER_WORKERS": "0"}),
        ):
            with self.subTest(words=words):
                process = self.start("h", port, **more)
                self.assertEqual(process.wait(60), 1)
                self.assertRegex(self.said(), words)
                self.assertNotIn("Traceback", self.said())

    def test_a_damaged_cluster_says_where_its_log_is(self) -> None:
        port = free_port()
        self.ready("d")
        (self.folder / "d" / "cluster" / "data" / "global" / "pg_control").write_bytes(b"nothing")
        second = self.start("d", port)
        self.assertEqual(second.wait(60), 1)
        self.assertRegex(
            self.said(),
            r"does not start: .*pg_control.* All of its words are in .*server.log",
        )

    def test_a_backup_brings_everything_back(self) -> None:
        port = free_port()
        file = self.folder / "kept.backup"
        program = [sys.executable, "-m", PROGRAM]
        environment = {**os.environ, "YIELDING_TETHER_STATE": str(self.folder / "b")}
        environment.pop("YIELDING_TETHER_DATABASE_URL", None)

        def run(*arguments: str) -> subprocess.CompletedProcess[str]:
            return subprocess.run(
                [*program, *arguments], cwd=ROOT, env=environment, capture_output=True, text=True, check=False
            )

        self.ready("b")
        first = self.start("b", port)
        self.wait(port)
        base = f"http://127.0.0.1:{port}/api"
        ask.post(f"{base}/takes/1/pose", json={
            "revision": 1, "frame": 20, "member": "marl", "part": "hips", "control": "hips", "position": [0, 0.8, 0],
        }).raise_for_status()  # fmt: skip
        curves = ask.get(f"{base}/takes/1/curves", params={"channel": "marl/hips.ty"}).json()
        # While it runs; never over a file that is there; never back while somebody works.
        done = run("--backup", str(file))
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual(run("--backup", str(file)).returncode, 1)
        self.assertIn("stop it first", run("--restore", str(file)).stderr)
        for scene in ask.get(f"{base}/scenes").json():
            ask.delete(f"{base}/scenes/{scene['id']}").raise_for_status()
        first.terminate()
        first.wait(60)
        broken = self.folder / "broken.backup"
        broken.write_bytes(file.read_bytes()[:-20_000])
        self.assertEqual(run("--restore", str(broken)).returncode, 1)
        done = run("--restore", str(file))
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("8 scenes are back", done.stdout)
        self.start("b", port)
        self.wait(port)
        self.assertEqual(ask.get(f"{base}/takes/1/curves", params={"channel": "marl/hips.ty"}).json(), curves)

    def test_a_choice_that_cannot_be_is_named(self) -> None:
        for name, value in (
            ("PORT", "many"),
            ("WORKERS", "0"),
            ("WORKERS", "two"),
            ("JOB_MEMORY", "1e9"),
            ("JOB_MEMORY", "4"),
        ):
            with (
                mock.patch.dict(os.environ, {f"YIELDING_TETHER_{name}": value}),
                self.assertRaisesRegex(ValueError, f"YIELDING_TETHER_{name} is '{value}': use"),
            ):
                Settings.read()

    def test_a_cluster_that_cannot_be_made_says_why(self) -> None:
        blocked = self.folder / "blocked"
        blocked.mkdir()
        (blocked / "data").write_text("not a folder")
        with self.assertRaises((ClusterError, NotADirectoryError)):
            Cluster(blocked).start()
