import { answer, get, Problem, type Job, type OperationAsked, type Tried } from "./api";

/** Milliseconds between two looks at a job. */
const LOOK = 150;
const ENDED = new Set<Job["state"]>(["done", "failed", "cancelled"]);

/** Asks for work that a worker does, tells how far it is, and returns it once it is done; aborting the signal cancels it. A refusal
 * is thrown as the problem that it is. While the service is away it waits. */
export async function runJob(path: string, init: RequestInit, signal: AbortSignal, tell: (job: Job) => void): Promise<Job> {
  const begun = await answer(path, { ...init, headers: { ...init.headers, Prefer: "respond-async" }, signal });
  return ended((await begun.json()) as Job, signal, tell);
}

/** Tries an operation; what lasts long is worked out by a worker, which tells how far it is. */
export async function tryOut(take: number, body: OperationAsked, signal: AbortSignal, tell: (job: Job) => void): Promise<Tried> {
  const headers = { "Content-Type": "application/json", Prefer: "respond-async" };
  const response = await answer(`/takes/${take}/try`, { method: "POST", headers, body: JSON.stringify(body), signal });
  if (response.status !== 202) return (await response.json()) as Tried;
  const job = await ended((await response.json()) as Job, signal, tell);
  return get<Tried>(`/jobs/${job.id}/tried`, signal);
}

/** Waits for the end of a job, telling how far it is. */
async function ended(job: Job, signal: AbortSignal, tell: (job: Job) => void): Promise<Job> {
  const cancel = () => void fetch(`/api/jobs/${job.id}`, { method: "DELETE", keepalive: true });
  signal.addEventListener("abort", cancel);
  try {
    while (!ENDED.has(job.state)) {
      tell(job);
      await new Promise((later) => setTimeout(later, LOOK));
      signal.throwIfAborted();
      try {
        job = await get<Job>(`/jobs/${job.id}`, signal);
      } catch (error) {
        if (!(error instanceof Problem) || (error.status !== 0 && error.status !== 503)) throw error;
      }
    }
  } finally {
    signal.removeEventListener("abort", cancel);
  }
  if (job.state === "done") return job;
  throw new Problem(job.problem?.message ?? "It was cancelled, so nothing came of it.", 422, null, job.problem?.line ?? null);
}

/** How far a job is, in words. */
export function progressOf(job: Job | null): string {
  if (!job || job.state === "coming") return "Sending the file…";
  if (job.state === "waiting") return "Waiting for other work…";
  return job.done > 0 ? `${job.doing}, ${Math.round(100 * job.done)} %` : `${job.doing || "Beginning"}…`;
}

/** Hands a file that a job has written to the browser to save. */
export function save(job: Job) {
  const link = document.createElement("a");
  link.href = `/api/jobs/${job.id}/file`;
  link.download = job.file?.name ?? "take";
  link.click();
}
