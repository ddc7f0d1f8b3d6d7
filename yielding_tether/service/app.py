"""The service: routes over HTTP and live posing over a WebSocket. Everything the interface does, a script can."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import secrets
import struct
from pathlib import Path
from typing import Annotated

import numpy as np
import orjson
from fastapi import FastAPI, HTTPException, Query, Request, Response, WebSocket, WebSocketDisconnect
from fastapi import Path as PathParameter
from fastapi.exceptions import RequestValidationError
from fastapi.responses import FileResponse, JSONResponse
from fastapi.staticfiles import StaticFiles
from pydantic import ValidationError
from sqlalchemy.exc import DBAPIError
from sqlalchemy.exc import TimeoutError as PoolTimeout
from starlette.exceptions import HTTPException as StarletteHTTPException
from starlette.requests import ClientDisconnect
from starlette.routing import Match, Route

from ..core.contacts import along
from ..core.curves import ARRIVING, LEAVING
from ..core.errors import CoreError
from ..core.measure import meter
from ..core.operations import pose
from ..formats import glb
from ..store.jobs import Jobs
from ..store.store import Missing, Store
from . import operations
from . import schemas as s
from .describe import as_drag, card, clip_info, contact_infos, curve_infos, pose_strip, pose_table
from .files import add_files
from .fitting import add_fitting
from .guard import COOKIE, Guard, token_of
from .parameters import PROBLEMS, Frames, Key, RevisionId, TakeId
from .problems import HINDERED, TOLD, hindrance, problem_of
from .quiet import Quiet
from .studio import Studio
from .trying import add_trying

log = logging.getLogger(__name__)

#: Most frames of poses in one answer.
MAX_POSES = 1024
#: Most sockets open at once, and seconds after which one that does not read its answers is dropped.
MAX_SOCKETS, UNREAD = 32, 20.0


def create_app(store: Store, web: Path | None = None, key: str = "", jobs: Jobs | None = None) -> FastAPI:
    """The application on a store; `web` is the folder of the built interface, `key` what every request must carry, if any."""
    app = FastAPI(
        title="Yielding Tether", version="0.1.0", openapi_url="/api/openapi.json", docs_url=None, redoc_url=None,
        summary="Hand limbs over between IK and FK without pose pops, and prove it.",
    )  # fmt: skip
    app.add_middleware(Guard, key=key)
    app.add_middleware(Quiet)
    studio = Studio(store)
    jobs = jobs or Jobs(store.engine)
    app.state.studio = studio
    _errors(app)
    _scenes(app, studio, key)
    _takes(app, studio)
    _writing(app, studio)
    add_fitting(app, studio)
    _live(app, studio)
    add_files(app, jobs, store.head)
    add_trying(app, studio, jobs)
    if web is not None and web.exists():
        _interface(app, web)
    return app


def _errors(app: FastAPI) -> None:
    def told(_: Request, error: Exception) -> JSONResponse:
        status, problem = problem_of(error)
        return JSONResponse(problem.model_dump(), status)

    # Any other one is a fault: the server logs it whole.
    for kind in (*TOLD, Exception):
        app.add_exception_handler(kind, told)

    @app.exception_handler(ClientDisconnect)
    def gone(_: Request, error: Exception) -> Response:
        # Nobody reads this; it only keeps the log quiet.
        return Response(status_code=499)

    def problem(status: int, message: str) -> JSONResponse:
        return JSONResponse(s.Problem(message=message).model_dump(), status)

    @app.exception_handler(RequestValidationError)
    def invalid(_: Request, error: RequestValidationError) -> JSONResponse:
        first = error.errors()[0]
        where = ".".join(str(p) for p in first["loc"])
        return problem(422, f"{where}: {first['msg']}.")

    @app.exception_handler(StarletteHTTPException)
    def unanswered(request: Request, error: StarletteHTTPException) -> JSONResponse:
        said = {
            404: "There is nothing at this address.", 405: "This address does not take requests of this kind.",
        }  # fmt: skip
        answer = problem(error.status_code, said.get(error.status_code, f"{error.detail}."))
        answer.headers.update(error.headers or {})
        if error.status_code == 405:
            answer.headers["Allow"] = ", ".join(_taken(app, request))
        return answer


def _taken(app: FastAPI, request: Request) -> list[str]:
    """Kinds of requests that an address takes, where it takes some but not this one."""
    routes = [r for r in app.routes if isinstance(r, Route) and r.matches(request.scope)[0] is Match.PARTIAL]
    return sorted({kind for r in routes for kind in r.methods or () if r.include_in_schema})


def _scenes(app: FastAPI, studio: Studio, key: str) -> None:
    @app.get("/api/health", tags=["service"], summary="Whether service and database are well", responses=PROBLEMS)
    def health(response: Response) -> s.Health:
        try:
            studio.store.ping()
        except (DBAPIError, PoolTimeout) as error:
            response.status_code = 503
            return s.Health(database=hindrance(error)[0])
        return s.Health(database="well")

    @app.post("/api/key", tags=["service"], status_code=204, summary="Show the key once", responses=PROBLEMS)
    async def show_key(asked: s.KeyShown) -> Response:
        """A browser that has shown the key carries a cookie from then on; a program sends `Authorization: Bearer KEY` each time."""
        if key and not secrets.compare_digest(asked.key.encode(), key.encode()):
            # Guessing takes its time.
            await asyncio.sleep(1.0)
            problem = s.Problem(message="This is not the key that the program was started with.")
            return JSONResponse(problem.model_dump(), 401)
        answer = Response(status_code=204)
        if key:
            answer.set_cookie(COOKIE, token_of(key), max_age=30 * 86400, httponly=True, samesite="strict")
        return answer

    @app.get("/api/scenes", tags=["scenes"], summary="All scenes with their cast and takes", responses=PROBLEMS)
    def list_scenes() -> list[s.SceneEntry]:
        found = []
        for scene in studio.store.scenes():
            takes = []
            for row in scene["takes"]:
                # One that is taken away while this is put together is simply not there.
                with contextlib.suppress(Missing):
                    takes.append(studio.entry(row.id, row.head_id))
            if scene["takes"] and not takes:
                continue
            found.append(
                s.SceneEntry(
                    id=scene["row"].id,
                    name=scene["row"].name,
                    cast=[name for _, name, _ in scene["members"]],
                    characters=[
                        s.CharacterEntry(id=id, name=name) for id, name, kind in scene["members"] if kind == "character"
                    ],
                    takes=takes,
                )
            )
        return found

    @app.delete(
        "/api/scenes/{scene_id}",
        tags=["scenes"],
        status_code=204,
        summary="Remove a scene with its takes",
        responses=PROBLEMS,
    )
    def delete_scene(scene_id: TakeId) -> None:
        studio.store.delete_scene(scene_id)
        studio.store.collect()


def _takes(app: FastAPI, studio: Studio) -> None:
    @app.get(
        "/api/operations",
        tags=["takes"],
        summary="What can be done on a stretch of parts, with its choices",
        responses=PROBLEMS,
    )
    def list_operations() -> list[s.OperationInfo]:
        return operations.all_infos()

    @app.get(
        "/api/takes/{take_id}",
        tags=["takes"],
        summary="Open a take: cast, strands, findings, revision",
        responses=PROBLEMS,
    )
    def open_take(take_id: TakeId, revision: RevisionId | None = None) -> s.TakeInfo:
        return studio.take_info(take_id, revision)

    @app.get("/api/takes/{take_id}/strip", tags=["takes"], summary="Small poses of a take", responses=PROBLEMS)
    def strip(take_id: TakeId) -> s.PoseStrip:
        return pose_strip(studio.open(take_id).program)

    @app.post(
        "/api/takes/{take_id}/transforms",
        tags=["takes"],
        summary="World transforms of joints at given times",
        responses=PROBLEMS,
    )
    def transforms(take_id: TakeId, asked: s.TransformsAsked) -> Response:
        program = studio.open(take_id, asked.revision).program
        members = None if asked.member is None else [program.scene.member(asked.member).id]
        names, nodes = program.joints(members)
        poses = program.evaluate(asked.times, ARRIVING if asked.side == "arriving" else LEAVING)
        body = {
            "joints": names, "times": asked.times, "positions": np.ascontiguousarray(poses.pos[:, nodes]),
            "rotations": np.ascontiguousarray(poses.rot[:, nodes]),
        }  # fmt: skip
        return Response(orjson.dumps(body, option=orjson.OPT_SERIALIZE_NUMPY), media_type="application/json")

    @app.get(
        "/api/takes/{take_id}/poses",
        tags=["takes"],
        summary="Poses of whole frames, as float32",
        responses=PROBLEMS,
        response_class=Response,
    )
    def poses(
        take_id: TakeId, first: Frames, last: Frames, revision: RevisionId | None = None, trial: str | None = None
    ) -> Response:
        """Little-endian float32, frames × `rows` × (position, rotation): first the `joints` of the opened take in order,
        then what its `handles` say, then from row `sizes` on each member's size as its first number. At most 1,024 frames."""
        program = studio.program(take_id, revision, trial)
        if not first <= last < first + MAX_POSES:
            raise CoreError(f"Ask for 1 to {MAX_POSES} frames at a time, first to last.")
        at = np.arange(first, last + 0.5)
        return Response(pose_table(program, program.evaluate(at)).tobytes(), media_type="application/octet-stream")

    @app.get(
        "/api/takes/{take_id}/meter",
        tags=["takes"],
        summary="Pose and speed jumps per frame, and how far what stands slips and sinks",
        responses=PROBLEMS,
    )
    def read_meter(
        take_id: TakeId, part: Annotated[list[str], Query(max_length=200)], first: Frames, last: Frames,
        revision: RevisionId | None = None, trial: str | None = None,
    ) -> s.Meter:  # fmt: skip
        """`part` is member/part, once for each part."""
        program = studio.program(take_id, revision, trial)
        if not first <= last < first + 4 * MAX_POSES:
            raise CoreError(f"Ask for 1 to {4 * MAX_POSES} frames at a time, first to last.")
        bounds = [program.bound(member, which) for member, _, which in (name.partition("/") for name in part)]
        frames = np.arange(first, last + 0.5)
        place, speed = meter(program, np.concatenate([b.nodes for b in bounds]), frames)
        slip, depth, _ = along(program, {b.id for b in bounds}, frames)
        return s.Meter(
            frames=frames.tolist(), pose=place.tolist(), speed=speed.tolist(), slip=slip.tolist(), depth=depth.tolist()
        )

    @app.get(
        "/api/takes/{take_id}/card",
        tags=["takes"],
        summary="A part at a frame: values of its systems",
        responses=PROBLEMS,
    )
    def read_card(
        take_id: TakeId, member: str, part: str, frame: Frames, revision: RevisionId | None = None, layer: str = ""
    ) -> s.Card:  # fmt: skip
        return card(studio.open(take_id, revision).program, member, part, frame, layer)

    @app.get("/api/takes/{take_id}/curves", tags=["takes"], summary="Channels with their keys", responses=PROBLEMS)
    def read_curves(
        take_id: TakeId, channel: Annotated[list[str], Query(max_length=200)], revision: RevisionId | None = None,
        layer: str = "",
    ) -> list[s.CurveInfo]:  # fmt: skip
        """`layer`: the one whose keys they are, left out for those of the base."""
        return curve_infos(studio.open(take_id, revision).program, channel, layer)

    @app.get(
        "/api/takes/{take_id}/contacts",
        tags=["takes"],
        summary="Contacts of a take, and how far they slip, frame by frame",
        responses=PROBLEMS,
    )
    def read_contacts(take_id: TakeId, revision: RevisionId | None = None) -> list[s.ContactInfo]:
        return contact_infos(studio.open(take_id, revision).program)

    @app.get(
        "/api/takes/{take_id}/compare",
        tags=["revisions"],
        summary="Two revisions, or takes, against one another",
        responses=PROBLEMS,
    )
    def read_comparison(
        take_id: TakeId, a: RevisionId, b: RevisionId, take_b: Annotated[int, Query(ge=1, le=s.MOST_ID)] | None = None
    ) -> s.Compared:
        """`a` and `b` are revisions; with `take_b`, `b` is one of that take."""
        return studio.compare(take_id, a, b, take_b)

    @app.get(
        "/api/takes/{take_id}/revisions",
        tags=["revisions"],
        summary="All revisions of a take",
        responses=PROBLEMS,
    )
    def revisions(take_id: TakeId) -> list[s.RevisionInfo]:
        return studio.revisions(take_id)

    @app.get(
        "/api/takes/{take_id}/body.glb", tags=["takes"], summary="One member at rest as a GLB file: skeleton and body",
        responses=PROBLEMS, response_class=Response,
    )  # fmt: skip
    def body(take_id: TakeId, member: str) -> Response:
        found = studio.open(take_id).program.scene.member(member)
        # Bodies never change once a scene is there.
        return Response(glb.body(found), media_type="model/gltf-binary", headers={"Cache-Control": "max-age=86400"})


def _writing(app: FastAPI, studio: Studio) -> None:
    @app.post(
        "/api/takes/{take_id}/suggest",
        tags=["operations"],
        summary="Choices that a stretch of parts most likely wants",
        responses=PROBLEMS,
    )
    def suggest(take_id: TakeId, asked: s.SuggestAsked) -> s.Suggested:
        return studio.suggest(take_id, asked)

    @app.post(
        "/api/takes/{take_id}/apply",
        tags=["operations"],
        summary="Apply an operation as one revision",
        responses=PROBLEMS,
    )
    def apply_operation(take_id: TakeId, asked: s.OperationAsked, idempotency_key: Key = None) -> s.Applied:
        return studio.apply(take_id, asked, idempotency_key)

    @app.post(
        "/api/takes/{take_id}/transfer",
        tags=["operations"],
        summary="Move a character's take to another scene's character by name",
        responses=PROBLEMS,
    )
    def transfer(take_id: TakeId, asked: s.TransferAsked) -> s.TransferInfo:
        """Without `apply` it tells what would match and what would not, and makes nothing."""
        return studio.transfer(take_id, asked)

    @app.post(
        "/api/takes/{take_id}/wanted",
        tags=["operations"],
        summary="Mark a finding as wanted, or as open again",
        responses=PROBLEMS,
    )
    def mark(take_id: TakeId, asked: s.Marked, idempotency_key: Key = None) -> s.Applied:
        return studio.mark(take_id, asked, idempotency_key)

    @app.post(
        "/api/takes/{take_id}/clips",
        tags=["clips"],
        summary="Copy a pose or a range of some parts, and keep it",
        responses=PROBLEMS,
    )
    def copy(take_id: TakeId, asked: s.CopyAsked) -> s.ClipInfo:
        return studio.copy(take_id, asked)

    @app.get("/api/clips", tags=["clips"], summary="All kept clips, newest first", responses=PROBLEMS)
    def list_clips() -> list[s.ClipInfo]:
        return [clip_info(id, clip) for id, clip in studio.store.clips()]

    @app.post("/api/clips/{clip_id}/name", tags=["clips"], status_code=204, summary="Rename a clip", responses=PROBLEMS)
    def rename_clip(clip_id: TakeId, asked: s.Renamed) -> None:
        studio.store.rename_clip(clip_id, asked.name)

    @app.delete("/api/clips/{clip_id}", tags=["clips"], status_code=204, summary="Remove a clip", responses=PROBLEMS)
    def remove_clip(clip_id: TakeId) -> None:
        studio.store.remove_clip(clip_id)

    @app.post(
        "/api/takes/{take_id}/pose",
        tags=["operations"],
        summary="Pose one control and key it",
        responses=PROBLEMS,
    )
    def apply_pose(take_id: TakeId, asked: s.DragAsked, idempotency_key: Key = None) -> s.Applied:
        return studio.apply_drag(take_id, asked, idempotency_key)

    @app.post(
        "/api/takes/{take_id}/undo",
        tags=["revisions"],
        summary="Go back to the revision before",
        responses=PROBLEMS,
    )
    def undo(take_id: TakeId, asked: s.Based) -> s.Based:
        return s.Based(revision=studio.store.step(take_id, asked.revision, -1))

    @app.post(
        "/api/takes/{take_id}/redo",
        tags=["revisions"],
        summary="Go on to the revision after",
        responses=PROBLEMS,
    )
    def redo(take_id: TakeId, asked: s.Based) -> s.Based:
        return s.Based(revision=studio.store.step(take_id, asked.revision, 1))

    @app.post("/api/takes/{take_id}/head", tags=["revisions"], summary="Go to any revision", responses=PROBLEMS)
    def go_to(take_id: TakeId, asked: s.GoTo) -> s.Based:
        return s.Based(revision=studio.store.go_to(take_id, asked.revision, asked.to))

    @app.post(
        "/api/takes/{take_id}/revisions/{revision}/name",
        tags=["revisions"],
        status_code=204,
        summary="Name a revision",
        responses=PROBLEMS,
    )
    def name_revision(
        take_id: TakeId, revision: Annotated[int, PathParameter(ge=1, le=s.MOST_REVISION)], asked: s.Named
    ) -> None:
        studio.store.name_revision(take_id, revision, asked.name)


def _live(app: FastAPI, studio: Studio) -> None:
    open_sockets = 0

    @app.websocket("/api/takes/{take_id}/live")
    async def live(socket: WebSocket, take_id: TakeId) -> None:
        """Poses a control while it is dragged. In: a DragAsked as JSON with a number `seq`. Out: `seq` as uint32,
        then one frame of the pose table as float32; or a text message with what is wrong. Nothing is stored."""
        nonlocal open_sockets
        if open_sockets >= MAX_SOCKETS:
            await socket.close(4429, "Too many windows are open.")
            return
        await socket.accept()
        open_sockets += 1
        newest: asyncio.Queue[str | None] = asyncio.Queue(1)
        reading = asyncio.create_task(_read(socket, newest))
        try:
            while (text := await newest.get()) is not None:
                await asyncio.wait_for(_answer(socket, studio, take_id, text), UNREAD)
        except (WebSocketDisconnect, TimeoutError):
            return
        finally:
            reading.cancel()
            open_sockets -= 1


async def _read(socket: WebSocket, newest: asyncio.Queue[str | None]) -> None:
    """Keeps the newest message of a socket, so that a hand that is faster than the answers is not followed through all of its
    places; None when it is closed."""
    while True:
        message = await socket.receive()
        closed = message["type"] == "websocket.disconnect"
        # What is no text is no drag either, and is told so.
        text = None if closed else message.get("text") or ""
        if newest.full():
            newest.get_nowait()
        newest.put_nowait(text)
        if closed:
            return


async def _answer(socket: WebSocket, studio: Studio, take_id: int, text: str) -> None:
    seq = 0
    try:
        seq, asked = _drag_of(text)
        reply = await asyncio.get_running_loop().run_in_executor(None, _posed, studio, take_id, asked)
        await socket.send_bytes(struct.pack("<I", seq & 0xFFFFFFFF) + reply)
        return
    except (CoreError, Missing) as error:
        message = str(error)
    except HINDERED as error:
        message = hindrance(error)[1]
    except WebSocketDisconnect:
        raise
    except Exception:
        # A fault of ours is not the sender's to mend: it is logged whole, and posing goes on.
        log.exception("Live posing failed")
        message = "This pose could not be worked out: that is a fault of the program, and it was logged."
    await socket.send_text(orjson.dumps({"seq": seq, "message": message}).decode())


def _drag_of(text: str) -> tuple[int, s.DragAsked]:
    """The number and the drag of a message; CoreError tells the sender that it is none."""
    if len(text) > 16384:
        raise CoreError("A drag is a short message.")
    try:
        body = orjson.loads(text)
        seq = int(body.pop("seq", 0)) if isinstance(body, dict) else 0
        return seq, s.DragAsked.model_validate(body)
    except (ValidationError, orjson.JSONDecodeError, ArithmeticError, ValueError, TypeError):
        raise CoreError("This is no drag: see docs/api.md.") from None


def _posed(studio: Studio, take_id: int, asked: s.DragAsked) -> bytes:
    program = studio.open(take_id, asked.revision).program
    values = pose.solve_all(program, as_drag(asked))
    poses = program.evaluate([asked.frame], overrides=dict(values))
    return pose_table(program, poses, values).tobytes()


def _interface(app: FastAPI, web: Path) -> None:
    app.mount("/assets", StaticFiles(directory=web / "assets"), name="assets")

    @app.get("/{path:path}", include_in_schema=False)
    def page(request: Request, path: str) -> FileResponse:
        if path.startswith("api/"):
            raise HTTPException(405 if _taken(app, request) else 404)
        try:
            file = (web / path).resolve()
            found = bool(path) and file.is_file() and web.resolve() in file.parents
        except (OSError, ValueError):
            # Too long for a file's name, or no name at all.
            raise HTTPException(404) from None
        if found:
            return FileResponse(file)
        # A new build must be seen at once; what it loads is named by content.
        return FileResponse(web / "index.html", headers={"Cache-Control": "no-cache"})
