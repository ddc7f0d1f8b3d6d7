import { addAfterEffect } from "@react-three/fiber";
import type { WebGLRenderer } from "three";

let drawing: { gl: WebGL2RenderingContext; fence: WebGLSync } | null = null;

/** Marks the end of every picture of a renderer, so that it is known when it is drawn; returns what ends that. */
export function watchPictures(renderer: WebGLRenderer): () => void {
  const gl = renderer.getContext() as WebGL2RenderingContext;
  let seen = renderer.info.render.frame;
  const stop = addAfterEffect(() => {
    if (renderer.info.render.frame === seen) return;
    seen = renderer.info.render.frame;
    settle();
    const fence = gl.fenceSync(gl.SYNC_GPU_COMMANDS_COMPLETE, 0);
    if (fence) drawing = { gl, fence };
    gl.flush();
  });
  return () => {
    stop();
    settle();
  };
}

/** Whether the last picture is still being drawn. */
export function stillDrawing(): boolean {
  if (drawing && drawing.gl.getSyncParameter(drawing.fence, drawing.gl.SYNC_STATUS) === drawing.gl.SIGNALED) settle();
  return drawing !== null;
}

function settle() {
  drawing?.gl.deleteSync(drawing.fence);
  drawing = null;
}
