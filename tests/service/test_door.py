"""Who is let in: those who have the key, where there is one, and those who come to the end of what they ask."""

from __future__ import annotations

import socket
import tempfile
import threading
import time
import unittest
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path
from unittest.mock import patch

import httpx
import orjson
import uvicorn
from websockets.exceptions import InvalidStatus

from tests.core.test_handover import demo
from tests.servers import PATIENCE, Service, ask, free_port, fresh_store, socket_to
from yielding_tether.service import guard, patience
from yielding_tether.service.app import create_app
from yielding_tether.service.patience import Patient
from yielding_tether.store import cluster
from yielding_tether.store.cluster import Cluster


class Key(unittest.TestCase):
    def test_without_it_nothing_is_told_but_the_page(self) -> None:
        service = Service(YIELDING_TETHER_KEY="three ropes, sjø")
        self.addCleanup(service.stop)
        address = service.base + "/api"
        live = address.replace("http", "ws") + "/takes/1/live"
        self.assertEqual(ask.get(service.base + "/").status_code, 200)
        for given in (
            {},
            {"Authorization": "Bearer three"},
            {"Authorization": "three ropes"},
            {"Cookie": "tether-key=x"},
        ):
            for path in ("/scenes", "/health", "/openapi.json", "/takes/1/poses?first=0&last=1"):
                answer = ask.get(address + path, headers=given)
                self.assertEqual(answer.status_code, 401, (path, given))
                self.assertIn("asks for the key", answer.json()["message"])
            with self.assertRaises(InvalidStatus):
                socket_to(live, additional_headers=given)
        self.assertEqual(
            ask.get(address + "/scenes", headers={"Authorization": "Bearer three ropes, sjø".encode()}).status_code,
            200,
        )
        with httpx.Client(timeout=PATIENCE) as browser:
            wrong = browser.post(address + "/key", json={"key": "three rope"})
            self.assertEqual(wrong.status_code, 401)
            self.assertNotIn("set-cookie", wrong.headers)
            shown = browser.post(address + "/key", json={"key": "three ropes, sjø"})
            self.assertEqual(shown.status_code, 204)
            self.assertIn("HttpOnly", shown.headers["set-cookie"])
            self.assertNotIn("three", shown.headers["set-cookie"])
            self.assertEqual(browser.get(address + "/scenes").status_code, 200)
            kept = shown.headers["set-cookie"].partition(";")[0]
        with socket_to(live, additional_headers={"Cookie": kept}) as channel:
            channel.send("{}")
            self.assertIn("no drag", orjson.loads(channel.recv())["message"])


@contextmanager
def served() -> Iterator[str]:
    """Address of the real application in this process, so that its patience can be short."""
    store = fresh_store()
    _, (take,) = store.add_scene(demo().scene, [demo().take])
    port = free_port()
    config = uvicorn.Config(create_app(store), port=port, http=Patient, log_level="critical", limit_concurrency=64)
    server = uvicorn.Server(config)
    thread = threading.Thread(target=server.run)
    thread.start()
    while not server.started:
        time.sleep(0.01)
    try:
        yield f"http://127.0.0.1:{port}/api/takes/{take}"
    finally:
        server.should_exit = True
        thread.join()
        store.close()


class HalfSent(unittest.TestCase):
    def test_half_requests_take_nobodys_place(self) -> None:
        with patch.object(patience, "HEADERS", 0.4), served() as address:
            port = int(address.split(":")[2].split("/")[0])
            halves = [b"", b"G", b"GET / HTTP/1.1\r\nHost: 127.0.0.1\r\nX: "]
            sockets = [socket.create_connection(("127.0.0.1", port)) for _ in range(70)]
            for k, one in enumerate(sockets):
                one.sendall(halves[k % 3])
            # One that has asked something before, and then half of something, is no better.
            asked = sockets[0]
            asked.sendall(b"GET /api/health HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n")
            for one in sockets:
                one.settimeout(20)
                with closing(one):
                    while one.recv(65536):
                        pass
            self.assertEqual(ask.get(address).status_code, 200)

    def test_a_socket_that_is_open_stays_open(self) -> None:
        with (
            patch.object(patience, "HEADERS", 0.2),
            served() as address,
            socket_to(address.replace("http", "ws") + "/live") as channel,
        ):
            time.sleep(0.6)
            channel.send("{}")
            self.assertIn("message", orjson.loads(channel.recv()))

    def test_a_body_that_does_not_come_is_told(self) -> None:
        with patch.object(guard, "PIECE", 0.3), served() as address:
            port = int(address.split(":")[2].split("/")[0])
            for path in ("api/key", "api/import?filename=a.bvh"):
                with closing(socket.create_connection(("127.0.0.1", port))) as one:
                    one.settimeout(20)
                    one.sendall(
                        f"POST /{path} HTTP/1.1\r\nHost: 127.0.0.1:{port}\r\nContent-Length: 900\r\n\r\nHI".encode()
                    )
                    answer = b""
                    while b"did not come" not in answer and (piece := one.recv(65536)):
                        answer += piece
                self.assertTrue(answer.startswith(b"HTTP/1.1 408"), answer[:200])
                self.assertIn(b"did not come", answer)
            # What is slow but comes is waited for, and so is an answer that takes its time.
            with closing(socket.create_connection(("127.0.0.1", port))) as one:
                one.settimeout(20)
                body = b'{"key": "x"}'
                one.sendall(f"POST /api/key HTTP/1.1\r\nHost: 127.0.0.1:{port}\r\nContent-Type: application/json\r\n"
                            f"Content-Length: {len(body)}\r\n\r\n".encode())  # fmt: skip
                for k in range(len(body)):
                    one.sendall(body[k : k + 1])
                    time.sleep(0.05)
                self.assertTrue(one.recv(65536).startswith(b"HTTP/1.1 204"))


class Log(unittest.TestCase):
    def test_the_databases_log_keeps_its_end(self) -> None:
        with tempfile.TemporaryDirectory() as folder, patch.object(cluster, "LONG", 1000):
            mine, log = Cluster(Path(folder)), Path(folder) / "server.log"
            mine._shorten_log()
            log.write_bytes(bytes(range(250)) * 4)
            mine._shorten_log()
            self.assertEqual(log.stat().st_size, 1000)
            with log.open("ab") as server:
                server.write(b"the end")
                server.flush()
                mine._shorten_log()
                self.assertEqual(log.stat().st_size, 100)
                server.write(b", and on")
            self.assertTrue(log.read_bytes().endswith(b"the end, and on"))


if __name__ == "__main__":
    unittest.main()
