import { useQuery, useQueryClient, type QueryClient } from "@tanstack/react-query";
import { useCallback, useEffect } from "react";
import { get, post, postOnce, Problem, type Applied, type ClipInfo, type DragAsked, type KeyEdit, type Operation, type OperationAsked, type Suggested, type TakeInfo, type Tried } from "../shared/api";
import { tryOut } from "../shared/jobs";
import { kept } from "../shared/kept";
import { useNotice } from "../shared/notice";
import { placeOf } from "./address";
import { live } from "./live";
import { PoseBank } from "./poses";
import { carriedOver } from "./timeline/scale";
import { toBeChosen } from "./offered";
import { NOTHING, source, strandOf, useBench, usePick, type PartRef, type Stretch, type Wish } from "./state";

/** Loads a take and keeps the bench at its head. */
export function useTake(takeId: number) {
  const query = useQuery({ queryKey: ["take", takeId], queryFn: () => get<TakeInfo>(`/takes/${takeId}`), staleTime: 1000 });
  const info = query.data;
  const { refetch } = query;
  // Whoever comes back from another window finds what was done there.
  useEffect(() => {
    const look = () => void refetch();
    addEventListener("focus", look);
    return () => removeEventListener("focus", look);
  }, [refetch]);
  useEffect(() => {
    if (!info) return;
    const bench = useBench.getState();
    const same = bench.info?.id === info.id;
    const before = same ? bench.info : null;
    const ranged = before?.first === info.first && before.last === info.last;
    const bank = ranged && bench.bank ? bench.bank : new PoseBank(info.id, info.first, info.last);
    // A layer that is gone, by undo say, is no longer in hand.
    const layer = same && info.layers.some((l) => l.id === bench.layer) ? bench.layer : "";
    // Where frames came or went, what showed all of the take still does.
    const moved = before && !ranged ? { shown: carriedOver(bench.shown, before, info), frame: within(bench.frame, info), loop: null } : {};
    // A repair of what was repaired meanwhile is no offer any more.
    const wanted = same && bench.wish?.operation === "repair" ? (bench.wish.findings ?? []) : null;
    const done = wanted && !info.findings.some((f) => wanted.includes(f.key)) ? NOTHING : {};
    bench.set({ info, bank, live: null, layer, ...(same ? { ...done, ...moved } : opening(info)) });
    bank.ahead(source(info), useBench.getState().frame);
  }, [info]);
  return query;
}

const within = (frame: number, take: TakeInfo) => Math.min(Math.max(frame, take.first), take.last);

/** Where a take opens: where the link says, else at its first finding, with that part in hand. */
function opening(info: TakeInfo) {
  const finding = info.findings[0];
  const main = info.strands.find((s) => s.main) ?? info.strands[0];
  const linked = placeOf(location.search);
  const part = linked.part && strandOf(info, linked.part) ? linked.part : null;
  const frame = linked.frame ?? finding?.frame ?? info.first;
  const first = part ?? finding ?? main;
  return {
    ...NOTHING,
    frame: within(frame, info),
    focus: first ? { member: first.member, part: first.part } : null,
    playing: false,
    pinned: [],
    trailed: [],
    beside: null,
    channels: [],
    picked: [],
    shown: [info.first, Math.min(info.last, info.first + 1200)] as [number, number],
    loop: null,
    left: null,
    filter: "",
    inHand: [],
    stays: [],
    about: null,
    goesWith: kept("camera goes with", "body") === "body" ? "body" : "",
    viewpoint: { name: "free" as const, again: 0 },
  };
}

export function useOperations() {
  return useQuery({ queryKey: ["operations"], queryFn: () => get<Operation[]>("/operations"), staleTime: Infinity }).data;
}

/** Operations that a stretch of these parts is offered. */
export function offeredFor(operations: Operation[] | undefined, info: TakeInfo, parts: PartRef[]) {
  const named = new Set(parts.flatMap((p) => strandOf(info, p)?.operations ?? []));
  return (operations ?? []).filter((o) => named.has(o.id));
}

/** Keys all of a part at a frame: of the base, or what the layer in hand has of it, so that its motion stays before and after. */
function keyed(now: (wish: Wish, choices?: Record<string, string | number>) => Promise<unknown>, part: PartRef, frame: number) {
  const { layer } = useBench.getState();
  const at = { parts: [part], first: frame, last: null };
  return layer ? now({ operation: "layer", ...at }, { do: "key", which: layer }) : now({ operation: "key", ...at });
}

/** Counts the offers made: the answer to an older one is of no use any more. */
let offers = 0;

/** Selects a stretch and starts trying an operation on it: that of its name, or the first that applies. The service says
 * which choices such a stretch most likely wants. */
export async function offer(operations: Operation[] | undefined, info: TakeInfo, stretch: Stretch, name?: string) {
  const { set } = useBench.getState();
  const offered = offeredFor(operations, info, stretch.parts);
  const operation = offered.find((o) => o.id === name) ?? offered[0];
  const mine = ++offers;
  set({ ...NOTHING, stretch });
  if (!operation) return;
  const parts = stretch.parts.filter((p) => strandOf(info, p)?.operations.includes(operation.id));
  const last = stretch.last >= info.last ? null : stretch.last;
  const wish: Wish = { operation: operation.id, parts, first: stretch.first, last };
  try {
    const found = await post<Suggested>(`/takes/${info.id}/suggest`, { ...wish, revision: info.revision });
    const now = useBench.getState().stretch;
    if (mine === offers && now === stretch) set({ wish, choices: found.choices, options: found.options });
  } catch (error) {
    useNotice.getState().warn((error as Error).message);
  }
}

/** Makes a choice; what is suggested beside the choices made follows it. */
export async function choose(name: string, value: string | number) {
  const { info, wish, choices, made: before, set } = useBench.getState();
  const made = { ...before, [name]: value };
  set({ choices: { ...choices, [name]: value }, made });
  if (!info || !wish) return;
  const { operation, parts, first, last } = wish;
  try {
    const found = await post<Suggested>(`/takes/${info.id}/suggest`, { operation, parts, first, last, revision: info.revision, choices: made });
    const now = useBench.getState();
    const same = Object.keys(found.choices).every((k) => found.choices[k] === now.choices[k]);
    if (now.made === made && now.wish === wish && !same) set({ choices: { ...now.choices, ...found.choices } });
  } catch (error) {
    useNotice.getState().warn((error as Error).message);
  }
}

const asked = (operations: Operation[] | undefined, info: TakeInfo, wish: Wish, choices: Record<string, string | number>): OperationAsked => {
  const { layer } = useBench.getState();
  const into = layer && operations?.find((o) => o.id === wish.operation)?.to_layer ? { layer } : {};
  return { ...wish, revision: info.revision, choices: { ...choices, ...into } } as OperationAsked;
};

/** What writes, one after another: whoever is faster than the answers means the take as it is after them. */
let line: Promise<unknown> = Promise.resolve();

type Way = "undo" | "redo";
/** What was pressed and is not written yet. */
const pressed: Way[] = [];

/** Does something once all that was asked for before it is written. */
function inTurn<T>(work: () => Promise<T>): Promise<T> {
  const done = line.then(work);
  line = done.catch(() => undefined);
  return done;
}

/** Waits until something is so, looking whenever it is told to. */
export function until(told: (look: () => void) => () => void, so: () => boolean): Promise<void> {
  if (so()) return Promise.resolve();
  return new Promise((done) => {
    const stop = told(() => {
      if (!so()) return;
      stop();
      done();
    });
  });
}

/** Why the last trial could not be made. */
let refusal = "";

/** Applies what was asked for before it was tried, once it is. */
export function useEager() {
  const { trial, eager, set } = usePick("trial", "eager", "set");
  const { apply } = useActions();
  useEffect(() => {
    if (!trial || !eager) return;
    set({ eager: false });
    apply();
  }, [trial, eager, set, apply]);
}

/** Tries what is wished for whenever it or a choice changes; only the newest answer counts. */
export function useTrying() {
  const { info, wish, choices } = usePick("info", "wish", "choices");
  const operations = useOperations();
  useEffect(() => {
    const { set } = useBench.getState();
    set({ trial: null, trying: false, job: null, eager: false });
    if (!info || !wish || !operations) return;
    // What is overtaken is not worked out to its end.
    const wanted = new AbortController();
    set({ trying: true });
    const timer = setTimeout(() => {
      tryOut(info.id, asked(operations, info, wish, choices), wanted.signal, (job) => set({ job }))
        .then((trial) => {
          if (wanted.signal.aborted) return;
          set({ trial, trying: false, job: null });
          // Only what this trial was told goes: a word about another window stays until it is read.
          const notice = useNotice.getState();
          if (notice.text === refusal) notice.clear();
          const bench = useBench.getState();
          bench.bank?.ahead(`trial-${trial.trial}`, bench.frame);
        })
        .catch((error: Error) => {
          if (wanted.signal.aborted) return;
          set({ trying: false, job: null });
          refusal = error.message;
          // What is only not chosen yet is no fault.
          const open = toBeChosen(operations.find((o) => o.id === wish.operation), choices);
          useNotice.getState()[open ? "ask" : "warn"](refusal);
        });
    }, 90);
    return () => {
      wanted.abort();
      clearTimeout(timer);
    };
  }, [operations, info, wish, choices]);
}

/** Shows in the picture what an operation would make while it is still being decided, without a word about it: the newest wish
 * counts, one after another. */
export class Glimpse {
  private next: [OperationAsked, number] | null = null;
  private busy = false;
  private open = true;

  constructor(private readonly operation: string) {}

  show(choices: Record<string, string | number>, first: number) {
    const { info } = useBench.getState();
    if (!info) return;
    this.open = true;
    this.next = [{ operation: this.operation, parts: [], first, last: null, revision: info.revision, choices } as unknown as OperationAsked, info.id];
    if (!this.busy) void this.work();
  }

  private async work() {
    this.busy = true;
    while (this.next) {
      const [wish, take] = this.next;
      this.next = null;
      try {
        const { trial } = await post<Tried>(`/takes/${take}/try`, wish);
        const bench = useBench.getState();
        if (!this.open || bench.info?.revision !== wish.revision) continue;
        bench.set({ lookedAt: trial });
        bench.bank?.ahead(`trial-${trial}`, bench.frame);
      } catch (error) {
        // What changes nothing is what is there.
        if (!(error instanceof Problem && error.status === 422)) useNotice.getState().warn((error as Error).message);
        if (this.open) useBench.getState().set({ lookedAt: null });
      }
    }
    this.busy = false;
  }

  /** What is there is seen again. */
  close() {
    this.open = false;
    this.next = null;
    useBench.getState().set({ lookedAt: null });
  }
}

async function refresh(client: QueryClient, take: number) {
  await client.invalidateQueries({ queryKey: ["take", take] });
  void client.invalidateQueries({ queryKey: ["revisions", take] });
  void client.invalidateQueries({ queryKey: ["scenes"] });
}

/** What makes a revision: sent again under its key where no answer comes. */
const ONCE = new Set(["apply", "pose", "wanted"]);

/** The writing actions of the bench. Each names the revision it started from; a stale one takes the page on. */
export function useActions() {
  const client = useQueryClient();
  const operations = useOperations();

  /** Sends what is made of the take as it is by then, and goes on from what that says; `send` says whether it sent anything. */
  const writing = useCallback(
    (send: (info: TakeInfo) => Promise<boolean>, stays = false) =>
      inTurn(async () => {
        const open = useBench.getState().info;
        // As it was answered last, drawn already or not.
        const info = open && (client.getQueryData<TakeInfo>(["take", open.id]) ?? open);
        if (!info) return false;
        try {
          if (!(await send(info))) return false;
          useNotice.getState().clear();
          if (!stays) useBench.getState().set(NOTHING);
          await refresh(client, info.id);
          return true;
        } catch (error) {
          useBench.getState().set({ live: null });
          const stale = error instanceof Problem && error.status === 409;
          // What was being tried is tried again on the newer state, so that Enter goes on from there.
          useNotice.getState().warn((error as Error).message + (stale && useBench.getState().wish ? " What you tried is tried again on it; Enter applies it." : ""));
          if (stale) await refresh(client, info.id);
          return false;
        }
      }),
    [client],
  );

  /** Writes something to an address of the take; nothing is asked where that is nothing. */
  const write = useCallback(
    <T,>(path: string, body: (info: TakeInfo) => object | null, stays = false) =>
      writing(async (info) => {
        const said = body(info);
        if (said) await (ONCE.has(path) ? postOnce : post)<T>(`/takes/${info.id}/${path}`, said);
        return said !== null;
      }, stays),
    [writing],
  );

  const apply = useCallback(() => {
    const { wish, choices, trial, trying, set } = useBench.getState();
    if (wish && trial)
      void write<Applied>("apply", (info) => {
        const now = useBench.getState();
        if (now.trial === trial) return asked(operations, info, wish, choices);
        // What was seen is of a take that has changed since: it is applied once it was tried on the newer one.
        if (now.wish === wish) set({ eager: true });
        return null;
      });
    else if (wish && trying) set({ eager: true });
  }, [operations, write]);

  /** Applies something at once, without a trial: small edits that undo takes back. */
  const now = useCallback(
    (wish: Wish, choices: Record<string, string | number> = {}) => write<Applied>("apply", (info) => asked(operations, info, wish, choices), true),
    [operations, write],
  );

  const edit = useCallback((change: KeyEdit) => now({ operation: "edit", parts: [], first: 0, last: null, edit: change }), [now]);

  const drop = useCallback(() => useBench.getState().set({ ...NOTHING, live: null, held: null, picked: [] }), []);

  /** Keys a pose that waits to be keyed, else the whole part in hand. */
  const keyPart = useCallback(() => {
    const { focus, frame, held, set } = useBench.getState();
    if (held) {
      set({ held: null });
      void write<Applied>("pose", (info) => ({ ...held, revision: info.revision }), true);
    } else if (focus) void keyed(now, focus, frame);
  }, [now, write]);

  const letGo = useCallback(
    async (drag: DragAsked) => {
      const rule = useBench.getState().keyRule;
      if (rule === "ask") {
        // Drawn as it would be, until K keys it or Esc drops it.
        live.drag(useBench.getState().info!.id, drag);
        useBench.getState().set({ held: drag });
        useNotice.getState().say("Not keyed yet: K keys this pose, Esc drops it.");
        return;
      }
      const kept = await write<Applied>("pose", (info) => ({ ...drag, revision: info.revision }), true);
      if (kept && rule === "part") await keyed(now, { member: drag.member, part: drag.part }, drag.frame);
    },
    [write, now],
  );

  const step = useCallback(
    (way: Way) => {
      pressed.push(way);
      void writing(async ({ id, revision, can_undo, can_redo }) => {
        const able = { undo: can_undo, redo: can_redo };
        let moved = false;
        // All that was pressed while something was written goes in one turn: only what it leads to is opened.
        for (const one of pressed.splice(0)) {
          if (!able[one]) continue;
          try {
            ({ revision } = await post<{ revision: number }>(`/takes/${id}/${one}`, { revision }));
            able[one === "undo" ? "redo" : "undo"] = moved = true;
          } catch (error) {
            // There is nothing more.
            if (!(error instanceof Problem && error.status === 404)) throw error;
            able[one] = false;
          }
        }
        return moved;
      });
    },
    [writing],
  );

  const goTo = useCallback((to: number) => void write("head", ({ revision }) => ({ revision, to })), [write]);

  const mark = useCallback((finding: string, wanted: boolean) => void write("wanted", ({ revision }) => ({ revision, finding, wanted })), [write]);

  const name = useCallback((revision: number, text: string) => write(`revisions/${revision}/name`, () => ({ name: text || null }), true), [write]);

  /** Waits until all that was asked for is written and the bench is at it. */
  const settled = useCallback(async () => {
    await inTurn(() => Promise.resolve());
    await until(useBench.subscribe, () => {
      const { info } = useBench.getState();
      return !info || (client.getQueryData<TakeInfo>(["take", info.id]) ?? info).revision === info.revision;
    });
  }, [client]);

  /** Keeps the selected stretch, or the pose of the part in hand. */
  const copy = useCallback(async () => {
    const { info, stretch, focus, frame } = useBench.getState();
    const parts = stretch?.parts ?? (focus ? [focus] : []);
    const member = parts[0]?.member;
    if (!info || !member) return;
    const names = parts.filter((p) => p.member === member).map((p) => p.part);
    try {
      const kept = await post<ClipInfo>(`/takes/${info.id}/clips`, { revision: info.revision, member, parts: names, first: stretch?.first ?? frame, last: stretch?.last ?? frame, name: "" });
      await client.invalidateQueries({ queryKey: ["clips"] });
      useNotice.getState().say(`Kept: ${kept.name}. Paste it from the locker (L), or with Ctrl+V.`);
    } catch (error) {
      useNotice.getState().warn((error as Error).message);
    }
  }, [client]);

  return { apply, drop, letGo, step, goTo, now, edit, keyPart, mark, name, copy, settled };
}

/** Starts pasting a clip at the current frame, onto the body of the part in hand. */
export function startPaste(operations: Operation[] | undefined, clip: ClipInfo) {
  const { info, focus, frame, set } = useBench.getState();
  const operation = operations?.find((o) => o.id === "paste");
  if (!info || !focus || !operation) return;
  const choices: Record<string, string | number> = {};
  for (const c of operation.choices) choices[c.name] = c.default;
  // A range goes back as it was keyed; a pose is a pose.
  if (clip.length > 0) choices["way"] = "values";
  set({ wish: { operation: "paste", parts: [focus], first: frame, last: null, clip: clip.id }, choices, trial: null, stretch: null });
}

export type Actions = ReturnType<typeof useActions>;
