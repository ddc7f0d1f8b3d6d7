"""Server and database killed in the middle of operations: nothing answered is lost, nothing half is left."""

from __future__ import annotations

import os
import random
import signal
import threading
import time
import unittest
from pathlib import Path

import httpx

from tests.servers import PATIENCE, Service, ask, family

#: Kills of each kind; `python -m measures kills` makes fifty.
KILLS = int(os.environ.get("YIELDING_TETHER_TEST_KILLS", "2"))


class Writer:
    """One animator who keeps posing an arm, and remembers every answer."""

    def __init__(self, base: str) -> None:
        self.base = base
        self.take = 0
        self.answered: list[int] = []
        self.refusals: list[str] = []
        self.stop = threading.Event()
        self.thread = threading.Thread(target=self._work, daemon=True)

    def _work(self) -> None:
        dice = random.Random(len(self.answered))
        with httpx.Client(base_url=self.base + "/api", timeout=PATIENCE) as http:
            while not self.stop.is_set():
                try:
                    head = http.get(f"/takes/{self.take}").json()["revision"]
                    asked = {
                        "revision": head, "frame": dice.randint(5, 100), "member": "marl", "part": "arm.R",
                        "control": "arm.R.ik", "position": [-0.3 + 0.2 * dice.random(), 1.1, 0.3],
                    }  # fmt: skip
                    answer = http.post(f"/takes/{self.take}/pose", json=asked)
                except (httpx.HTTPError, KeyError, ValueError):
                    time.sleep(0.02)
                    continue
                if answer.status_code == 200:
                    self.answered.append(answer.json()["revision"])
                elif answer.status_code != 503:
                    self.refusals.append(answer.text)

    def wait_for_answer(self) -> None:
        """Waits for one more answer, so that every kill hits an animator at work."""
        before = len(self.answered)
        for _ in range(1200):
            if len(self.answered) > before:
                return
            time.sleep(0.02)
        raise AssertionError(f"no answer came: {self.refusals[-1:]}")

    def end(self) -> None:
        self.stop.set()
        self.thread.join(30)


def wait_until_well(base: str) -> None:
    for _ in range(600):
        try:
            if ask.get(f"{base}/api/health").status_code == 200:
                return
        except httpx.HTTPError:
            pass
        time.sleep(0.05)
    raise AssertionError("the service did not come back")


class Kills(unittest.TestCase):
    def writer(self, service: Service) -> Writer:
        made = Writer(service.base)
        scenes = ask.get(f"{service.base}/api/scenes").json()
        made.take = next(s for s in scenes if s["name"] == "Chain ferry")["takes"][0]["id"]
        made.thread.start()
        self.addCleanup(made.end)
        return made

    def sound(self, service: Service, writer: Writer, seen: int) -> int:
        """Every answered revision is there and whole; returns how many revisions have been looked at."""
        http = httpx.Client(base_url=service.base + "/api", timeout=PATIENCE)
        revisions = http.get(f"/takes/{writer.take}/revisions").json()
        ids = [r["id"] for r in revisions]
        self.assertEqual([r["number"] for r in revisions], list(range(len(revisions))))
        self.assertLessEqual(set(writer.answered), set(ids))
        # One line of history: each stands on the one before, so nothing answered was overwritten.
        self.assertEqual([r["parent"] for r in revisions], [None, *ids[:-1]])
        self.assertEqual(http.get(f"/takes/{writer.take}").json()["revision"], ids[-1])
        for r in revisions[seen:]:
            whole = http.get(f"/takes/{writer.take}/poses", params={"first": 0, "last": 40, "revision": r["id"]})
            self.assertEqual(whole.status_code, 200)
        self.assertEqual(writer.refusals, [])
        return len(revisions)

    def test_the_server(self) -> None:
        service = Service()
        self.addCleanup(service.stop)
        dice = random.Random(1)
        seen = 1
        for _ in range(KILLS):
            writer = self.writer(service)
            writer.wait_for_answer()
            time.sleep(dice.random() * 0.4)
            service.kill()
            writer.end()
            service.start()
            seen = self.sound(service, writer, seen)
        self.assertGreater(seen, KILLS)

    def test_the_database(self) -> None:
        service = Service(private=True)
        self.addCleanup(service.stop)
        dice = random.Random(2)
        writer = self.writer(service)
        seen = 1
        for n in range(KILLS):
            writer.wait_for_answer()
            time.sleep(dice.random() * 0.4)
            self.kill_database(service.state / "cluster/data/postmaster.pid")
            wait_until_well(service.base)
            if n % 5 == 4 or n == KILLS - 1:
                writer.wait_for_answer()
                writer.end()
                seen = self.sound(service, writer, seen)
                writer = self.writer(service)
        self.assertGreater(seen, KILLS)

    def test_a_database_that_hangs_for_a_while(self) -> None:
        service = Service(private=True)
        self.addCleanup(service.stop)
        dice = random.Random(3)
        writer = self.writer(service)
        for _ in range(KILLS):
            writer.wait_for_answer()
            time.sleep(dice.random() * 0.4)
            pids = family(service.state / "cluster/data/postmaster.pid")
            self.signal(pids, signal.SIGSTOP)
            time.sleep(dice.random() * 3.0)
            self.signal(pids, signal.SIGCONT)
            wait_until_well(service.base)
        writer.wait_for_answer()
        writer.end()
        self.assertGreater(self.sound(service, writer, 1), KILLS)

    def kill_database(self, pid_file: Path) -> None:
        """As a machine that loses its power would: the server and all its backends at once."""
        self.signal(family(pid_file), signal.SIGKILL)

    @staticmethod
    def signal(processes: list[int], what: signal.Signals) -> None:
        for pid in processes:
            try:
                os.kill(pid, what)
            except ProcessLookupError:
                continue


if __name__ == "__main__":
    unittest.main()
