"""Requests that nobody who means well would send: every refusal is told in words, and nothing breaks."""

from __future__ import annotations

import http.client
import json
import random
import re
import unittest
from functools import partial
from typing import Any

import httpx

from tests.core.test_handover import demo
from tests.depth import DEPTH
from tests.servers import PATIENCE, Service, socket_to, together
from yielding_tether.formats import bvh

#: What is put in place of a number, a text, a list and anything else.
NUMBERS = (0, -1, 2**31, 2**53, 2**63, 2**64, 10**40, "NaN", "1e400", "-Infinity", 0.5, True, None, "x", "", [], {})
TEXTS = ("", "\0", "a\0b", "\ud800", "²", "../..", "%s%n", "'; drop table take; --", "x" * 5000, 7, None, [], {"a": 1})
ANY = (*NUMBERS, *TEXTS, [[[[[]]]]], {"first": {"last": []}})


class Hostile(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.service = Service()
        cls.addClassCleanup(cls.service.stop)
        cls.http = httpx.Client(base_url=cls.service.base, timeout=PATIENCE)
        cls.addClassCleanup(cls.http.close)
        cls.spec = cls.http.get("/api/openapi.json").json()

    def raw(
        self, method: str, path: str, body: bytes = b"", headers: dict[str, str] | None = None
    ) -> tuple[int, bytes]:
        """Status and body of a request as it stands, without a client that would mend it."""
        line = http.client.HTTPConnection("127.0.0.1", self.service.port, timeout=PATIENCE)
        line.putrequest(method, path, skip_host=headers is not None and "Host" in headers)
        for name, value in {"Content-Length": str(len(body)), **(headers or {})}.items():
            line.putheader(name, value)
        line.endheaders()
        if body:
            line.send(body)
        answer = line.getresponse()
        found = answer.status, answer.read()
        line.close()
        return found

    def told(self, status: int, body: bytes, what: str) -> None:
        """A refusal of the sender's doing, in words."""
        self.assertTrue(400 <= status < 500, f"{what}: {status} {body[:200]!r}")
        self.assertTrue(json.loads(body)["message"], what)

    def test_what_is_no_address_is_refused_in_words(self) -> None:
        for path in ("/%00", "/api/takes/1%00", "/api/scenes?x=%00", "/" + "a" * 5000, "/api/nothing", "/api/takes/x",
                     "/api/takes/99999999999999999999", "/api/takes/-1", "/api/takes/1?revision=9223372036854775808",
                     "/api/takes/1/card?member=marl&part=arm.L&frame=1e400", "/api/takes/1/curves?channel=" + "a" * 3000,
                     "/api/takes/1/poses?first=nan&last=3", "/assets/%00", "/assets/../../x"):  # fmt: skip
            with self.subTest(path=path[:60]):
                self.told(*self.raw("GET", path), path[:60])
        for method, path in (("PUT", "/api/scenes"), ("DELETE", "/api/takes/1"), ("POST", "/api/health")):
            self.told(*self.raw(method, path), f"{method} {path}")

    def test_foreign_hosts_pages_and_sites_are_refused(self) -> None:
        for headers in ({"Host": "["}, {"Host": "elsewhere.example"}, {"Host": "testserver"}, {"Host": "127.0.0.1:x["},
                        {"Origin": "https://["}, {"Origin": "https://elsewhere.example"}, {"Origin": "null"},
                        {"Sec-Fetch-Site": "cross-site"}):  # fmt: skip
            with self.subTest(headers=headers):
                status, body = self.raw("GET", "/api/takes/1/export.glb?member=marl", headers=headers)
                self.told(status, body, str(headers))
                self.assertEqual(status, 403)

    def test_a_page_may_load_nothing_from_elsewhere(self) -> None:
        for path in ("/", "/api/health", "/api/nothing"):
            headers = self.http.get(path).headers
            self.assertIn("default-src 'self'", headers["content-security-policy"])
            self.assertIn("frame-ancestors 'none'", headers["content-security-policy"])
            self.assertEqual(
                (headers["x-content-type-options"], headers["referrer-policy"]), ("nosniff", "no-referrer")
            )

    def test_bodies_that_are_none_are_refused_in_words(self) -> None:
        take = self.http.get("/api/scenes").json()[0]["takes"][0]["id"]
        deep = b"[" * 50_000
        for body in (
            b"",
            b"{",
            b"\xff\xfe",
            b"[]",
            b"null",
            b"3",
            b'"x"',
            deep,
            b'{"revision": NaN}',
            b'{"revision": 1e999}',
        ):
            self.told(
                *self.raw("POST", f"/api/takes/{take}/undo", body, {"Content-Type": "application/json"}),
                repr(body[:20]),
            )
        for length in ("-1", "²", "1e3", "9" * 5000, "99999999999"):
            with self.subTest(length=length[:10]):
                try:
                    status, body = self.raw(
                        "POST", f"/api/takes/{take}/undo", headers={"Content-Length": length.encode().decode("latin-1")}
                    )
                except (http.client.HTTPException, OSError):
                    # Closed by the server before it is a request.
                    continue
                self.assertTrue(400 <= status < 500, (length[:10], status))

    def body_of(self, schema: dict[str, Any], depth: int = 0) -> Any:
        """A body that a schema describes: its example, or the plainest values."""
        if "$ref" in schema:
            schema = self.spec["components"]["schemas"][schema["$ref"].rpartition("/")[2]]
        if schema.get("examples"):
            return schema["examples"][0]
        for several in ("anyOf", "oneOf", "allOf"):
            if several in schema:
                return self.body_of(schema[several][0], depth + 1)
        match schema.get("type"):
            case "object":
                return (
                    {k: self.body_of(v, depth + 1) for k, v in schema.get("properties", {}).items()}
                    if depth < 6
                    else {}
                )
            case "array":
                return [self.body_of(schema["items"], depth + 1)] if "items" in schema and depth < 6 else []
            case "integer" | "number":
                return 1
            case "boolean":
                return False
        return (schema.get("enum") or [schema.get("const", "marl")])[0]

    def mutated(self, rng: random.Random, body: Any) -> Any:
        """A body with one thing in it changed, left out or added."""
        if isinstance(body, dict) and body and rng.random() < 0.8:
            key = rng.choice(sorted(body))
            way = rng.random()
            if way < 0.12:
                return {k: v for k, v in body.items() if k != key}
            if way < 0.2:
                return {**body, rng.choice(("x", "\0", "first ", "")): rng.choice(ANY)}
            return {**body, key: self.mutated(rng, body[key])}
        if isinstance(body, list) and body and rng.random() < 0.6:
            k = rng.randrange(len(body))
            return [*body[:k], self.mutated(rng, body[k]), *body[k + 1 :]]
        if isinstance(body, int | float) and rng.random() < 0.7:
            return rng.choice(NUMBERS)
        return rng.choice(TEXTS if isinstance(body, str) and rng.random() < 0.7 else ANY)

    def test_mutated_requests_break_nothing(self) -> None:
        rng = random.Random(5)
        takes = [t["id"] for s in self.http.get("/api/scenes").json() for t in s["takes"]]
        routes = [
            (m, p, o)
            for p, ms in self.spec["paths"].items()
            for m, o in ms.items()
            if p != "/api/import" and m != "delete"
        ]
        for _ in range(45 * DEPTH):
            for method, path, about in routes:
                there, query = path, {}
                for given in about.get("parameters", []):
                    value: Any = takes[0] if "take" in given["name"] else self.body_of(given["schema"])
                    if rng.random() < 0.35:
                        value = rng.choice(ANY)
                    text = json.dumps(value) if isinstance(value, list | dict) else str(value)
                    if given["in"] == "path":
                        there = there.replace(
                            "{" + given["name"] + "}",
                            httpx.QueryParams({"x": text.encode("utf-8", "replace").decode()}).__str__()[2:] or "0",
                        )
                    elif given.get("required") or rng.random() < 0.5:
                        query[given["name"]] = text.encode("utf-8", "replace").decode()
                url = there + ("?" + str(httpx.QueryParams(query)) if query else "")
                data, headers = b"", {}
                if "requestBody" in about:
                    body = self.body_of(about["requestBody"]["content"]["application/json"]["schema"])
                    body = self.mutated(rng, body) if rng.random() < 0.9 else body
                    data = json.dumps(body).encode()
                    for word in ("NaN", "1e400", "-Infinity"):
                        data = data.replace(f'"{word}"'.encode(), word.encode())
                    headers["Content-Type"] = "application/json"
                status, answer = self.raw(method.upper(), url, data, headers)
                case = f"{method} {url[:120]} {data[:300]!r}: {status} {answer[:200]!r}"
                self.assertLess(status, 500, case)
                self.assertTrue(str(status) in about["responses"] or (status in (404, 405) and there != path), case)
                if status >= 400:
                    self.assertTrue(json.loads(answer)["message"], case)
        self.assertEqual(self.http.get("/api/health").json()["database"], "well")

    def test_every_address_says_which_kinds_of_requests_it_takes(self) -> None:
        for path, kinds in self.spec["paths"].items():
            address = re.sub(r"{\w+}", "1", path)
            for kind in {"GET", "POST", "PUT", "PATCH", "DELETE", "OPTIONS"} - {k.upper() for k in kinds}:
                answer = self.http.request(kind, address)
                self.assertEqual(answer.status_code, 405, (kind, path))
                allowed = {k.strip() for k in answer.headers["Allow"].split(",")}
                self.assertEqual(allowed, {k.upper() for k in kinds}, (kind, path))

    def test_scenes_that_go_while_they_are_worked_on_hurt_nobody_else(self) -> None:
        """Some bring scenes in and take them away, others work on them and look at everything: whose scene is gone is told so, and
        all else goes on."""
        file = bvh.write(demo(), "marl", 0, 6)
        wrong: list[str] = []
        alive: list[int] = []

        def ask(client: httpx.Client, method: str, path: str, fine: tuple[int, ...], **more: Any) -> httpx.Response:
            answer = client.request(method, path, **more)
            if answer.status_code not in fine:
                wrong.append(f"{method} {path}: {answer.status_code} {answer.text[:200]}")
            return answer

        def come_and_go(client: httpx.Client) -> None:
            made = ask(client, "POST", "/api/import?filename=x.bvh", (200,), content=file).json()
            alive.append(made["take_id"])
            ask(client, "GET", f"/api/takes/{made['take_id']}", (200,))
            ask(client, "DELETE", f"/api/scenes/{made['scene_id']}", (204,))

        def work(client: httpx.Client) -> None:
            if alive:
                take = alive[-1]
                info = ask(client, "GET", f"/api/takes/{take}", (200, 404)).json()
                asked = {"operation": "handover", "revision": info.get("revision", 1), "first": 2,
                         "parts": [{"member": "body", "part": "arm.L"}], "choices": {"to": "ik"}}  # fmt: skip
                ask(client, "POST", f"/api/takes/{take}/apply", (200, 404, 409, 422), json=asked)
                ask(client, "POST", f"/api/takes/{take}/undo", (200, 404, 409), json={"revision": asked["revision"]})

        def look(client: httpx.Client) -> None:
            scenes = ask(client, "GET", "/api/scenes", (200,)).json()
            demo_take = next(s for s in scenes if s["name"] == "Chain ferry")["takes"][0]["id"]
            ask(client, "GET", f"/api/takes/{demo_take}", (200,))

        clients = [httpx.Client(base_url=self.service.base, timeout=PATIENCE) for _ in range(5)]
        works = [partial(f, c) for f, c in zip((come_and_go, come_and_go, work, work, look), clients, strict=True)]
        wrong += together(works, 4.0 * DEPTH)
        for client in clients:
            client.close()
        self.assertEqual(wrong, [])
        self.assertGreater(len(alive), 1)

    def test_sockets_answer_what_is_no_drag_in_words(self) -> None:
        scene = next(s for s in self.http.get("/api/scenes").json() if s["name"] == "Chain ferry")
        take = scene["takes"][0]["id"]
        info = self.http.get(f"/api/takes/{take}").json()
        handle = next(h for h in info["handles"] if h["control"] == "arm.L.ik")
        drag = {k: handle[k] for k in ("member", "part", "control")} | {
            "revision": info["revision"], "frame": 30, "position": [0.3, 1.2, 0.4], "seq": 5,
        }  # fmt: skip
        address = self.service.base.replace("http", "ws") + f"/api/takes/{take}/live"
        with socket_to(address) as socket:
            far = {**drag, "frame": 1e300, "position": [1e300] * 3}
            for bad in (
                b"\0\1", "", "{", "[]", '{"seq": 1e400}', '{"seq": "x"}', "[" * 9000, "x" * 20_000,
                json.dumps({**drag, "member": "nobody"}), json.dumps({**drag, "revision": 10**30}), json.dumps(far),
            ):  # fmt: skip
                socket.send(bad)
                told = socket.recv(timeout=30)
                if isinstance(told, str):
                    self.assertTrue(json.loads(told)["message"], bad[:40])
            # A flood: only the newest counts, and it is answered.
            for n in range(300):
                socket.send(json.dumps({**drag, "seq": n}))
            answers = []
            while not answers or answers[-1] != 299:
                told = socket.recv(timeout=30)
                assert isinstance(told, bytes)
                answers.append(int.from_bytes(told[:4], "little"))
            self.assertEqual(answers, sorted(answers))
            self.assertLess(len(answers), 300)
        with socket_to(self.service.base.replace("http", "ws") + "/api/takes/99999/live") as socket:
            socket.send(json.dumps(drag))
            self.assertIn("take", json.loads(socket.recv(timeout=30))["message"])


if __name__ == "__main__":
    unittest.main()
