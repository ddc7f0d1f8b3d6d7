import { get, type ClipInfo, type CurveInfo, type Operation } from "../../shared/api";
import { useNotice } from "../../shared/notice";
import { startPaste, type Actions } from "../actions";
import { useBench } from "../state";

/** Pastes what was kept last. */
export function pasteNewest(operations: Operation[] | undefined) {
  return get<ClipInfo[]>("/clips").then(
    (clips) => (clips[0] ? startPaste(operations, clips[0]) : useNotice.getState().say("Nothing is kept yet: Ctrl+C keeps the pose of the part in hand.")),
    (error: Error) => useNotice.getState().warn(error.message),
  );
}

/** Copies the picked keys, with their frames from the first of them. */
export async function copyKeys() {
  const { info, picked, set } = useBench.getState();
  if (!info) return;
  const channels = [...new Set(picked.map((k) => k.channel))].map((c) => `channel=${encodeURIComponent(c)}`).join("&");
  const curves = await get<CurveInfo[]>(`/takes/${info.id}/curves?${channels}&revision=${info.revision}&layer=${useBench.getState().layer}`);
  const first = Math.min(...picked.map((k) => k.time));
  const copied = curves.flatMap((c) =>
    c.keys.filter((k) => picked.some((p) => p.channel === c.channel && p.time === k.time)).map((k) => ({ ...k, channel: c.channel, time: k.time - first, lock: 0 })),
  );
  set({ copied });
  useNotice.getState().say(`${copied.length} key${copied.length === 1 ? "" : "s"} copied: Ctrl+V puts them from the current frame on.`);
}

/** Puts the copied keys from the current frame on. */
export async function pasteKeys(edit: Actions["edit"]) {
  const { copied, frame, set } = useBench.getState();
  const put = copied.map((k) => ({ ...k, time: k.time + frame }));
  if (await edit({ what: "put", put })) set({ picked: put.map(({ channel, time }) => ({ channel, time })) });
}
