"""Routes for files that come in and go out. Both are jobs: whoever asks waits for the result, or, with `Prefer: respond-async`
(RFC 7240), is told the job at once, looks at how far it is and may cancel it."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from typing import Annotated, Any

from fastapi import FastAPI, Header, Query, Request, Response
from fastapi.responses import JSONResponse, StreamingResponse
from starlette.concurrency import run_in_threadpool
from starlette.requests import ClientDisconnect

from ..store.jobs import Job, Jobs, Pieces
from ..store.store import Missing
from . import schemas as s
from .parameters import PROBLEMS, Frames, JobId, RevisionId, TakeId
from .wanted import gone_away
from .work import WRITERS, Writer, check_readable

#: Seconds between two looks at a job that somebody waits for: at first, and at most.
SOON, LATER = 0.02, 0.25

Prefer = Annotated[str, Header(max_length=200, description="`respond-async`: answer 202 with the job at once")]
ASYNC: dict[int | str, dict[str, Any]] = {202: {"model": s.JobInfo, "description": "The job that was begun."}}


def add_files(app: FastAPI, jobs: Jobs, head: Callable[[int], int]) -> None:
    """The routes; `head` finds the revision that a take stands at."""

    @app.post(
        "/api/import", tags=["scenes"], summary="Bring in a capture file (BVH) as a new scene", responses={**PROBLEMS, **ASYNC},
        response_model=s.ImportedInfo,
        openapi_extra={"requestBody": {"content": {"application/octet-stream": {"schema": {"type": "string", "format": "binary"}}}}},
    )  # fmt: skip
    async def import_file(
        request: Request, filename: Annotated[str, Query(max_length=200)], unit: str | None = None, up: str | None = None,
        scene: Annotated[int, Query(ge=1, le=s.MOST_ID)] | None = None, prefer: Prefer = "",
    ) -> Response:  # fmt: skip
        """The body is the file itself. `unit` overrides the one proposed from the body's height (metres, centimetres,
        inches, millimetres, decimetres, feet), `up` the upward axis (y or z). With `scene` it becomes a further take of
        that scene's character whose skeleton it fits. A broken file is refused with its line, the token and what was
        expected, and leaves nothing behind."""
        check_readable(filename)
        asked = {"filename": filename, "unit": unit, "up": up, "scene": scene}
        id = await run_in_threadpool(jobs.begin, "bring in", asked)
        try:
            pieces = Pieces()
            async for chunk in request.stream():
                for piece in pieces.add(chunk):
                    await run_in_threadpool(jobs.put, id, "in", *piece)
            for piece in pieces.rest():
                await run_in_threadpool(jobs.put, id, "in", *piece)
            await run_in_threadpool(jobs.queue, id)
        except BaseException:
            await run_in_threadpool(jobs.cancel, id)
            raise
        return await _answer(request, jobs, id, prefer, lambda job: JSONResponse((job.result or {})["imported"]))

    @app.get("/api/jobs/{job_id}", tags=["jobs"], summary="How far a job is", responses=PROBLEMS)
    def read_job(job_id: JobId) -> s.JobInfo:
        return job_info(jobs.get(job_id))

    @app.delete("/api/jobs/{job_id}", tags=["jobs"], status_code=204, summary="Cancel a job", responses=PROBLEMS)
    def cancel_job(job_id: JobId) -> None:
        """Nothing comes of it, unless it was done already."""
        jobs.get(job_id)
        jobs.cancel(job_id)

    @app.get(
        "/api/jobs/{job_id}/file", tags=["jobs"], summary="The file that a job has written", responses=PROBLEMS,
        response_class=Response,
    )  # fmt: skip
    def read_file(job_id: JobId) -> Response:
        job = jobs.get(job_id)
        if not (job.result and job.result["file"]):
            raise Missing(f"Job {job_id} has no file.")
        return _file(jobs, job)

    @app.get(
        "/api/formats", tags=["takes"], summary="Formats that takes go out in, with what each holds and leaves out",
        responses=PROBLEMS,
    )  # fmt: skip
    def formats() -> list[s.FormatInfo]:
        return [s.FormatInfo(ending=e, label=w.label, holds=w.holds, leaves=w.leaves) for e, w in WRITERS.items()]

    for ending, writer in WRITERS.items():
        app.get(
            f"/api/takes/{{take_id}}/export.{ending}", tags=["takes"], summary=writer.summary, responses={**PROBLEMS, **ASYNC},
            response_class=Response, operation_id=f"export_{ending}",
        )(_exporting(jobs, head, ending, writer))  # fmt: skip


def _exporting(jobs: Jobs, head: Callable[[int], int], ending: str, writer: Writer) -> Callable[..., Any]:
    """The route of one format."""

    async def export(
        request: Request, take_id: TakeId, member: Annotated[str, Query(max_length=200)], first: Frames | None = None,
        last: Frames | None = None, revision: RevisionId | None = None, prefer: Prefer = "",
    ) -> Response:  # fmt: skip
        at = await run_in_threadpool(head, take_id) if revision is None else revision
        asked = {"take": take_id, "revision": at, "ending": ending, "member": member, "first": first, "last": last}
        id = await run_in_threadpool(jobs.begin, "deliver", asked)
        await run_in_threadpool(jobs.queue, id)
        return await _answer(request, jobs, id, prefer, lambda job: _file(jobs, job))

    export.__doc__ = writer.help
    return export


async def _answer(request: Request, jobs: Jobs, id: int, prefer: str, made: Callable[[Job], Response]) -> Response:
    """What a job has made, once it has; or the job itself, at once, for those who prefer that."""
    if "respond-async" in prefer.lower():
        return await begun(jobs, id)
    job = await _ended(request, jobs, id)
    if job.state == "cancelled":
        raise Missing(f"Job {id} was cancelled, so nothing came of it.")
    problem = _problem(job)
    return made(job) if problem is None else JSONResponse(problem.model_dump(), (job.problem or {})["status"])


async def begun(jobs: Jobs, id: int) -> Response:
    """A job that has just been begun."""
    job = await run_in_threadpool(jobs.get, id)
    headers = {"Location": f"/api/jobs/{id}", "Preference-Applied": "respond-async"}
    return JSONResponse(job_info(job).model_dump(mode="json"), 202, headers)


def _problem(job: Job) -> s.Problem | None:
    told = {k: v for k, v in (job.problem or {}).items() if k != "status"}
    return s.Problem.model_validate(told) if told else None


async def _ended(request: Request, jobs: Jobs, id: int) -> Job:
    """A job once it has ended; it is cancelled if who asked is gone."""
    gone = asyncio.create_task(gone_away(request))
    wait = SOON
    try:
        while True:
            job = await run_in_threadpool(jobs.get, id)
            if job.ended:
                return job
            await asyncio.wait({gone}, timeout=wait)
            if gone.done():
                await run_in_threadpool(jobs.cancel, id)
                raise ClientDisconnect
            wait = min(1.3 * wait, LATER)
    finally:
        gone.cancel()


def _file(jobs: Jobs, job: Job) -> Response:
    info = s.FileInfo.model_validate((job.result or {})["file"])
    return StreamingResponse(
        jobs.pieces(job.id, "out"), media_type=info.media,
        headers={"Content-Disposition": f'attachment; filename="{info.name}"', "Content-Length": str(info.size)},
    )  # fmt: skip


def job_info(job: Job) -> s.JobInfo:
    """A job as it is told."""
    return s.JobInfo(
        id=job.id, kind=job.kind, state=job.state, done=job.done, doing=job.doing,
        problem=_problem(job), **(job.result or {}),
    )  # fmt: skip
