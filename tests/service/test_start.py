"""The program as `./start` runs it: its own cluster, two copies side by side, a second one refused, clean ends."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

import httpx

from tests.servers import ROOT
from yielding_tether.store.cluster import Cluster, ClusterError, free_port


class Starting(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="tether-start-"))
        self.folder.chmod(0o755)
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)

    def start(self, state: str, port: int, **more: str) -> subprocess.Popen[str]:
        environment = {
            **os.environ,
            "YIELDING_TETHER_PORT": str(port),
            "YIELDING_TETHER_STATE": str(self.folder / state),
            **more,
        }
        environment.pop("YIELDING_TETHER_DATABASE_URL", None)
        process = subprocess.Popen(
            [sys.executable, "-m", "yielding_tether"],
            cwd=ROOT,
            env=environment,
            text=True,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
        )

        def end() -> None:
            if process.poll() is None:
                process.terminate()
            process.communicate(timeout=30)

        self.addCleanup(end)
        return process

    def wait(self, port: int, seconds: float = 60.0) -> dict:  # type: ignore[type-arg]
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            try:
                return httpx.get(f"http://127.0.0.1:{port}/api/health").json()  # type: ignore[no-any-return]
            except httpx.TransportError:
                time.sleep(0.1)
        self.fail("the program did not answer")

    def test_two_copies_do_not_disturb_one_another_and_data_survives(self) -> None:
        ports = free_port(), free_port()
        first, second = self.start("a", ports[0]), self.start("b", ports[1])
        for port in ports:
            self.assertEqual(self.wait(port), {"service": "well", "database": "well"})
        scene = httpx.get(f"http://127.0.0.1:{ports[0]}/api/scenes").json()[0]
        httpx.delete(f"http://127.0.0.1:{ports[0]}/api/scenes/{scene['id']}").raise_for_status()
        httpx.post(f"http://127.0.0.1:{ports[1]}/api/takes/1/pose", json={
            "revision": 1, "frame": 20, "member": "marl", "part": "hips", "control": "hips", "position": [0, 0.8, 0],
        }).raise_for_status()  # fmt: skip
        # A third one on the first's folder is told, and harms nothing.
        third = self.start("a", free_port())
        self.assertEqual(third.wait(30), 1)
        self.assertIn("already uses", third.stderr.read() if third.stderr else "")
        second.send_signal(signal.SIGINT)
        second.wait(30)
        self.assertEqual(self.wait(ports[0])["database"], "well")
        self.start("b", ports[1])
        self.wait(ports[1])
        self.assertEqual(httpx.get(f"http://127.0.0.1:{ports[1]}/api/takes/1").json()["number"], 1)
        first.terminate()
        first.wait(30)
        # Nothing is left running in the folder.
        cluster = Cluster(self.folder / "a" / "cluster")
        self.assertNotEqual(
            cluster._run("pg_ctl", "-D", str(cluster.folder / "data"), "status", check=False).returncode, 0
        )

    def test_a_killed_program_is_taken_over(self) -> None:
        port = free_port()
        first = self.start("k", port)
        self.wait(port)
        first.kill()
        first.wait()
        self.start("k", port)
        self.assertEqual(self.wait(port)["database"], "well")

    def test_a_bad_port_is_named(self) -> None:
        process = self.start("p", 0, YIELDING_TETHER_PORT="many")
        self.assertEqual(process.wait(30), 1)
        self.assertIn("YIELDING_TETHER_PORT is 'many'", process.stderr.read() if process.stderr else "")

    def test_a_cluster_that_cannot_be_made_says_why(self) -> None:
        blocked = self.folder / "blocked"
        blocked.mkdir()
        (blocked / "data").write_text("not a folder")
        with self.assertRaises((ClusterError, NotADirectoryError)):
            Cluster(blocked).start()
