import { useQuery, useQueryClient, type QueryClient } from "@tanstack/react-query";
import { useCallback, useEffect } from "react";
import { get, post, Problem, type Applied, type DragAsked, type Operation, type OperationAsked, type TakeInfo, type Tried } from "../shared/api";
import { useNotice } from "../shared/notice";
import { PoseBank } from "./poses";
import { likelySystem, source, strandOf, useBench, usePick, valueAt, type Stretch } from "./state";

/** Loads a take and keeps the bench at its head. */
export function useTake(takeId: number) {
  const query = useQuery({ queryKey: ["take", takeId], queryFn: () => get<TakeInfo>(`/takes/${takeId}`), staleTime: 0 });
  const info = query.data;
  useEffect(() => {
    if (!info) return;
    const bench = useBench.getState();
    const same = bench.info?.id === info.id;
    const rows = info.joints.length + 2 * info.limbs.length;
    const bank = same && bench.bank ? bench.bank : new PoseBank(info.id, info.first, info.last, rows);
    bench.set({ info, bank, live: null, ...(same ? {} : opening(info)) });
    bank.ahead(source(info), useBench.getState().frame);
  }, [info]);
  return query;
}

/** Where a take opens: at its first finding, with that part in hand. */
function opening(info: TakeInfo) {
  const finding = info.findings[0];
  const limb = info.limbs[0];
  return {
    frame: finding ? finding.frame : info.first,
    focus: finding ? { member: finding.member, part: finding.part } : limb ? { ...limb } : null,
    stretch: null,
    trial: null,
    playing: false,
    shown: [info.first, Math.min(info.last, info.first + 1200)] as [number, number],
  };
}

export function useOperations() {
  return useQuery({ queryKey: ["operations"], queryFn: () => get<Operation[]>("/operations") }).data;
}

/** The choices of an operation as a stretch would want them. */
export function startingChoices(operation: Operation, info: TakeInfo, stretch: Stretch) {
  const choices: Record<string, string | number> = {};
  for (const c of operation.choices) choices[c.name] = c.default;
  if ("to" in choices) choices["to"] = likelySystem(info, stretch);
  const captured = stretch.parts.some((p) => valueAt(strandOf(info, p)?.captured ?? [], stretch.first) > 0);
  // A capture has no keys of its own to keep to.
  if (captured && "keys" in choices) choices["keys"] = "every";
  return choices;
}

function asked(info: TakeInfo, stretch: Stretch, operation: string, choices: Record<string, string | number>): OperationAsked {
  return {
    operation,
    revision: info.revision,
    parts: stretch.parts,
    first: stretch.first,
    last: stretch.last >= info.last ? null : stretch.last,
    choices,
  };
}

/** Tries the operation in hand whenever the stretch or a choice changes; only the newest answer counts. */
export function useTrying() {
  const { info, stretch, operation, choices } = usePick("info", "stretch", "operation", "choices");
  useEffect(() => {
    const { set } = useBench.getState();
    set({ trial: null });
    if (!info || !stretch || Object.keys(choices).length === 0) return;
    let dropped = false;
    set({ trying: true });
    const timer = setTimeout(() => {
      post<Tried>(`/takes/${info.id}/try`, asked(info, stretch, operation, choices))
        .then((trial) => {
          if (dropped) return;
          set({ trial, trying: false });
          useNotice.getState().clear();
          const bench = useBench.getState();
          bench.bank?.ahead(`trial-${trial.trial}`, bench.frame);
        })
        .catch((error: Error) => {
          if (dropped) return;
          set({ trying: false });
          useNotice.getState().warn(error.message);
        });
    }, 90);
    return () => {
      dropped = true;
      clearTimeout(timer);
    };
  }, [info, stretch, operation, choices]);
}

async function refresh(client: QueryClient, take: number) {
  await client.invalidateQueries({ queryKey: ["take", take] });
  void client.invalidateQueries({ queryKey: ["revisions", take] });
  void client.invalidateQueries({ queryKey: ["scenes"] });
}

/** The writing actions of the bench. Each names the revision it started from; a stale one takes the page on. */
export function useActions() {
  const client = useQueryClient();

  const write = useCallback(
    async <T,>(path: string, body: object) => {
      const { info, set } = useBench.getState();
      if (!info) return;
      try {
        await post<T>(`/takes/${info.id}/${path}`, body);
        useNotice.getState().clear();
        set({ stretch: null, trial: null, choices: {} });
        await refresh(client, info.id);
      } catch (error) {
        set({ live: null });
        useNotice.getState().warn((error as Error).message);
        if (error instanceof Problem && error.status === 409) await refresh(client, info.id);
      }
    },
    [client],
  );

  const apply = useCallback(() => {
    const { info, stretch, operation, choices, trial } = useBench.getState();
    if (!info || !stretch || !trial) return;
    void write<Applied>("apply", asked(info, stretch, operation, choices));
  }, [write]);

  const drop = useCallback(() => useBench.getState().set({ stretch: null, trial: null, choices: {} }), []);

  const letGo = useCallback((drag: DragAsked) => write<Applied>("pose", drag), [write]);

  const step = useCallback(
    (path: "undo" | "redo") => {
      const { info } = useBench.getState();
      if (info) void write(path, { revision: info.revision });
    },
    [write],
  );

  const goTo = useCallback(
    (to: number) => {
      const { info } = useBench.getState();
      if (info) void write("head", { revision: info.revision, to });
    },
    [write],
  );

  return { apply, drop, letGo, step, goTo };
}
