"""Jobs over HTTP, against the real program: files come in and go out with progress, are cancelled, and survive lost workers."""

from __future__ import annotations

import asyncio
import os
import signal
import time
import unittest
from pathlib import Path
from typing import Any

import httpx
import psycopg
from starlette.requests import ClientDisconnect, Request

from tests.captures import prolonged
from tests.core.test_handover import demo
from tests.servers import PATIENCE, Service, ask, database, fresh_store
from yielding_tether.core.operations import Asked, run
from yielding_tether.core.program import Program
from yielding_tether.core.progress import still_wanted
from yielding_tether.formats import bvh, glb
from yielding_tether.service.wanted import while_wanted
from yielding_tether.store.jobs import MOST, PIECE, Jobs, Pieces, TooMany
from yielding_tether.store.store import Store

ASYNC = {"Prefer": "respond-async"}


class Files(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.address = database()
        cls.service = Service(cls.address, real=True)
        cls.addClassCleanup(cls.service.stop)
        cls.http = httpx.Client(base_url=cls.service.base + "/api", timeout=PATIENCE)
        cls.addClassCleanup(cls.http.close)
        cls.take = next(t["id"] for s in cls.http.get("/scenes").json() for t in s["takes"] if t["name"] == "Cast off")
        cls.file = bvh.write(demo(), "marl", 0, 60)

    def begun(self, data: bytes) -> int:
        answer = self.http.post("/import?filename=walk.bvh", content=data, headers=ASYNC)
        self.assertEqual(answer.status_code, 202, answer.text)
        self.assertEqual(answer.headers["Preference-Applied"], "respond-async")
        self.assertEqual(answer.headers["Location"], f"/api/jobs/{answer.json()['id']}")
        return int(answer.json()["id"])

    def seen(self, id: int) -> list[dict[str, Any]]:
        """What is told of a job until it ends."""
        found = [self.http.get(f"/jobs/{id}").json()]
        while found[-1]["state"] in ("coming", "waiting", "running"):
            time.sleep(0.02)
            found.append(self.http.get(f"/jobs/{id}").json())
        return found

    def worker(self) -> int:
        """The worker process of this test's own service."""
        for entry in Path("/proc").iterdir():
            try:
                mine = entry.name.isdigit() and b"yielding_tether.service.worker" in (entry / "cmdline").read_bytes()
                if mine and self.address.encode() in (entry / "environ").read_bytes():
                    return int(entry.name)
            except OSError:
                continue
        raise AssertionError("there is no worker")

    def scenes(self) -> list[int]:
        return [s["id"] for s in self.http.get("/scenes").json()]

    def test_progress_goes_forward_to_the_result(self) -> None:
        told = self.seen(self.begun(prolonged(self.file, 9000)))
        done = [t["done"] for t in told]
        self.assertEqual(done, sorted(done))
        self.assertGreater(len(set(done)), 4)
        self.assertEqual((told[-1]["state"], told[-1]["done"]), ("done", 1.0))
        self.assertIn("Reading the file", {t["doing"] for t in told})
        made = told[-1]["imported"]
        self.assertEqual(self.http.get(f"/takes/{made['take_id']}").json()["last"], 8999)
        self.assertEqual(self.http.get(f"/jobs/{told[-1]['id']}/file").status_code, 404)

    def test_a_cancelled_file_leaves_nothing(self) -> None:
        before = self.scenes()
        id = self.begun(prolonged(self.file, 18000))
        while self.http.get(f"/jobs/{id}").json()["done"] < 0.1:
            time.sleep(0.02)
        self.assertEqual(self.http.delete(f"/jobs/{id}").status_code, 204)
        self.assertEqual(self.seen(id)[-1]["state"], "cancelled")
        self.assertEqual(self.scenes(), before)
        with psycopg.connect(self.address.replace("+psycopg", "")) as db:
            self.assertEqual(db.execute("select count(*) from job_piece where job_id = %s", [id]).fetchone(), (0,))

    def test_what_waits_is_cancelled_before_it_begins(self) -> None:
        first, second = self.begun(prolonged(self.file, 9000)), self.begun(self.file)
        self.http.delete(f"/jobs/{second}")
        self.assertEqual(self.seen(second)[-1], {**self.seen(second)[-1], "state": "cancelled", "done": 0.0})
        self.assertEqual(self.seen(first)[-1]["state"], "done")

    def test_who_hangs_up_gets_nothing(self) -> None:
        before = self.scenes()
        with self.assertRaises(httpx.TimeoutException):
            ask.post(
                self.service.base + "/api/import?filename=gone.bvh", content=prolonged(self.file, 18000), timeout=0.8
            )
        with psycopg.connect(self.address.replace("+psycopg", "")) as db:
            for _ in range(600):
                (state,) = db.execute("select state from job order by id desc limit 1").fetchone() or ("",)
                db.rollback()
                if state not in ("coming", "waiting", "running"):
                    break
                time.sleep(0.05)
        self.assertEqual((state, self.scenes()), ("cancelled", before))

    def test_a_lost_worker_is_told_and_another_one_goes_on(self) -> None:
        before = self.scenes()
        id = self.begun(prolonged(self.file, 18000))
        while self.http.get(f"/jobs/{id}").json()["done"] < 0.1:
            time.sleep(0.02)
        os.kill(self.worker(), signal.SIGKILL)
        told = self.seen(id)[-1]
        self.assertEqual(told["state"], "failed")
        self.assertIn("worker at this was lost", told["problem"]["message"])
        self.assertEqual(self.scenes(), before)
        again = self.http.post("/import?filename=walk.bvh", content=self.file)
        self.assertEqual(again.status_code, 200, again.text)

    def test_files_that_go_out_are_those_of_the_core(self) -> None:
        for ending, write in (("bvh", bvh.write), ("glb", glb.write)):
            asked = {"member": "marl", "first": 10, "last": 40}
            with self.subTest(ending=ending):
                at_once = self.http.get(f"/takes/{self.take}/export.{ending}", params=asked)
                begun = self.http.get(f"/takes/{self.take}/export.{ending}", params=asked, headers=ASYNC).json()
                told = self.seen(begun["id"])[-1]
                later = self.http.get(f"/jobs/{begun['id']}/file")
                self.assertEqual(at_once.content, write(demo(), "marl", 10, 40))
                self.assertEqual(later.content, at_once.content)
                self.assertEqual(told["file"]["size"], len(later.content))
                self.assertEqual(told["file"]["name"], f"cast-off-marl.{ending}")

    def test_what_lasts_is_tried_by_a_worker_and_written_step_by_step(self) -> None:
        """A capture is made workable: tried beside everything else, applied as it was tried, each step undone by itself."""
        scenes = self.http.get("/scenes").json()
        take = next(t["id"] for s in scenes for t in s["takes"] if t["name"] == "Rough crossing")
        head = self.http.get(f"/takes/{take}").json()["revision"]
        asked = {
            "operation": "workable",
            "revision": head,
            "parts": [{"member": "marl", "part": "leg.L"}],
            "first": 4.0,
        }
        asked |= {"last": 72.0, "choices": {"tolerance": 2.0, "repair": "none"}}
        ask_for = f"/takes/{take}/try"
        dropped = self.http.post(ask_for, json=asked, headers=ASYNC)
        self.assertEqual(dropped.status_code, 202, dropped.text)
        self.http.delete(f"/jobs/{dropped.json()['id']}")
        self.assertEqual(self.seen(dropped.json()["id"])[-1]["state"], "cancelled")
        self.assertEqual(self.http.get(f"/jobs/{dropped.json()['id']}/tried").status_code, 404)
        told = self.seen(self.http.post(ask_for, json=asked, headers=ASYNC).json()["id"])
        self.assertEqual(told[-1]["state"], "done", told[-1])
        self.assertLessEqual({"Planting"}, {t["doing"] for t in told})
        self.assertEqual(self.http.get(f"/takes/{take}").json()["revision"], head)
        tried = self.http.get(f"/jobs/{told[-1]['id']}/tried").json()
        store = Store(self.address)
        loaded = store.load(take, head)
        program = Program(loaded.scene, loaded.take)
        wanted = run(program, "workable", Asked((("marl", "leg.L"),), 4.0, 72.0, asked["choices"]))
        self.assertEqual([s["label"] for s in tried["steps"]], [s.label for s in wanted.steps])
        self.assertEqual(tried["sentence"], wanted.proof.sentence)
        # What was tried is at hand, and need not be worked out again.
        self.assertEqual(self.http.post(ask_for, json=asked, headers=ASYNC).status_code, 200)
        key = {"Idempotency-Key": "workable"}
        applied = self.http.post(f"/takes/{take}/apply", json=asked, headers=key).json()
        self.assertEqual(
            self.http.post(f"/takes/{take}/apply", json=asked, headers=key).json()["revision"], applied["revision"]
        )
        rows = self.http.get(f"/takes/{take}/revisions").json()
        self.assertEqual([r["label"] for r in rows if r["parent"] is not None][-3:], [s.label for s in wanted.steps])
        at = applied["revision"]
        for step in reversed(wanted.steps):
            now = store.load(take, at).take
            self.assertEqual(now.curves.keys(), step.take.curves.keys())
            self.assertTrue(all(now.curves[n] == c for n, c in step.take.curves.items()))
            self.assertEqual(now.contacts, step.take.contacts)
            at = self.http.post(f"/takes/{take}/undo", json={"revision": at}).json()["revision"]
        self.assertEqual(at, head)
        for _ in wanted.steps:
            at = self.http.post(f"/takes/{take}/redo", json={"revision": at}).json()["revision"]
        self.assertEqual(at, applied["revision"])
        self.http.post(f"/takes/{take}/head", json={"revision": at, "to": head})

    def test_a_refusal_is_told_of_the_job_as_over_http(self) -> None:
        torn = self.file.replace(b"OFFSET", b"OFSET", 1)
        told = self.seen(self.begun(torn))[-1]
        answer = self.http.post("/import?filename=walk.bvh", content=torn)
        self.assertEqual((answer.status_code, answer.json()), (422, told["problem"]))
        self.assertEqual(told["problem"]["line"], 4)
        far = self.http.get(f"/takes/{self.take}/export.bvh", params={"member": "marl", "last": "1" + 40 * "0"})
        self.assertEqual(far.status_code, 422, far.text)
        self.assertEqual(self.http.get("/jobs/2000000000").status_code, 404)
        self.assertEqual(self.http.delete("/jobs/2000000000").status_code, 404)


class Queue(unittest.TestCase):
    def test_only_so_many_wait_and_one_whose_worker_is_gone_does_not_count(self) -> None:
        store = fresh_store()
        self.addCleanup(store.close)
        jobs = Jobs(store.engine)
        ids = [jobs.begin("deliver", {}) for _ in range(MOST)]
        with self.assertRaises(TooMany):
            jobs.begin("deliver", {})
        for id in ids:
            jobs.queue(id)
        with jobs.working(ids[0]) as mine:
            self.assertEqual(mine and mine.state, "running")
            self.assertEqual(jobs.get(ids[0]).state, "running")
            # Nobody else is given what somebody is at, nor what is cancelled.
            jobs.cancel(ids[0])
            self.assertFalse(jobs.tell(ids[0], 0.5, "on"))
            self.assertEqual(jobs.get(ids[0]).state, "running")
        # Its lock is free, and it never said how it ended.
        self.assertEqual(jobs.get(ids[0]).state, "failed")
        jobs.begin("deliver", {})
        jobs.cancel(ids[1])
        with jobs.working(ids[1]) as other:
            self.assertIsNone(other)

    def test_files_come_out_of_pieces_as_they_went_in(self) -> None:
        store = fresh_store()
        self.addCleanup(store.close)
        jobs = Jobs(store.engine)
        for size in (0, 1, PIECE - 1, PIECE, PIECE + 1, 2 * PIECE):
            id = jobs.begin("deliver", {})
            data = bytes(range(256)) * (size // 256 + 1)
            blocks = (data[k : min(k + 700_001, size)] for k in range(0, size, 700_001))
            cut = Pieces()
            for piece in [p for block in blocks for p in cut.add(block)] + cut.rest():
                jobs.put(id, "out", *piece)
            pieces = list(jobs.pieces(id, "out"))
            self.assertEqual((cut.size, b"".join(pieces)), (size, data[:size]))
            self.assertLessEqual(max(map(len, pieces)), PIECE)
            jobs.cancel(id)


class Superseded(unittest.TestCase):
    def test_work_ends_once_who_asked_is_gone(self) -> None:
        hung_up = asyncio.Event()
        steps: list[int] = []

        async def receive() -> dict[str, str]:
            await hung_up.wait()
            return {"type": "http.disconnect"}

        def work() -> str:
            for k in range(100_000):
                still_wanted()
                steps.append(k)
                time.sleep(0.001)
            return "done"

        async def asked() -> str:
            request = Request({"type": "http"}, receive)
            task = asyncio.create_task(while_wanted(request, work))
            while len(steps) < 5:
                await asyncio.sleep(0.001)
            hung_up.set()
            return await task

        with self.assertRaises(ClientDisconnect):
            asyncio.run(asked())
        self.assertLess(len(steps), 100_000)


if __name__ == "__main__":
    unittest.main()
