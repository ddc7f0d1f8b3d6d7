"""Routes that try an operation: what it would make and its proof, nothing written. What lasts long is worked out by a worker, for
those who prefer that (RFC 7240), who look at how far it is and may cancel it."""

from __future__ import annotations

from fastapi import FastAPI, Request
from starlette.concurrency import run_in_threadpool
from starlette.responses import Response

from ..core.operations import Step
from ..store.jobs import Jobs
from ..store.store import Missing
from . import operations
from . import schemas as s
from .describe import strands
from .files import ASYNC, Prefer, begun
from .outcomes import outcome_from
from .parameters import PROBLEMS, JobId, TakeId
from .studio import Studio, Trial
from .wanted import while_wanted

#: Seconds that an operation may last within an answer.
LONG = 1.5


def add_trying(app: FastAPI, studio: Studio, jobs: Jobs) -> None:
    """The routes."""

    @app.post(
        "/api/takes/{take_id}/try",
        tags=["operations"],
        summary="Try an operation: its result and proof, nothing written",
        responses={**PROBLEMS, **ASYNC},
        response_model=s.Tried,
    )
    async def try_operation(
        request: Request, take_id: TakeId, asked: s.OperationAsked, prefer: Prefer = ""
    ) -> s.Tried | Response:
        """Whoever hangs up before the answer cancels it. With `Prefer: respond-async` what lasts long is answered 202 with a job;
        its result is at `/api/jobs/{id}/tried`."""
        if "respond-async" in prefer.lower() and await run_in_threadpool(studio.lasts, take_id, asked) > LONG:
            id = await run_in_threadpool(jobs.begin, "try", {"take": take_id, "asked": asked.model_dump_json()})
            await run_in_threadpool(jobs.queue, id)
            return await begun(jobs, id)
        return await while_wanted(request, _tried, studio, take_id, asked)

    @app.get(
        "/api/takes/{take_id}/chart",
        tags=["operations"],
        summary="Figures by which to decide on what was tried; null where there are none",
        responses=PROBLEMS,
    )
    async def read_chart(request: Request, take_id: TakeId, trial: str) -> s.ChartInfo | None:
        return await while_wanted(request, studio.chart, take_id, trial)

    @app.get(
        "/api/jobs/{job_id}/tried", tags=["jobs"], summary="What a job has tried: as the answer to a trial", responses=PROBLEMS
    )  # fmt: skip
    def read_tried(job_id: JobId) -> s.Tried:
        job = jobs.get(job_id)
        if job.kind != "try" or job.state != "done":
            raise Missing(f"Job {job_id} has tried nothing, or is not done.")
        take, asked = job.arguments["take"], s.OperationAsked.model_validate_json(job.arguments["asked"])
        base = studio.open(take, asked.revision)
        return _told(
            studio,
            asked,
            *studio.keep(take, asked, outcome_from(base.loaded.take, b"".join(jobs.pieces(job_id, "out")))),
        )


def _tried(studio: Studio, take_id: int, asked: s.OperationAsked) -> s.Tried:
    return _told(studio, asked, *studio.try_(take_id, asked))


def _told(studio: Studio, asked: s.OperationAsked, name: str, trial: Trial) -> s.Tried:
    rows = strands(trial.program, [], [(p.member, p.part) for p in asked.parts])
    shown = operations.in_view(trial.base.program, asked, studio.store)
    steps = [s.StepInfo(label=x.label, sentence=x.proof.sentence, kept=_kept(x)) for x in trial.outcome.steps]
    proof = trial.outcome.proof
    return s.Tried(trial=name, proof=proof, sentence=proof.sentence, strands=rows, in_view=shown, steps=steps)


def _kept(step: Step) -> bool:
    """One verdict: nothing jumps, the tolerance is kept, and contacts keep their places."""
    return step.proof.clean and step.proof.within and step.proof.contacts_kept
