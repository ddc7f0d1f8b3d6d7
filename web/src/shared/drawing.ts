import { keep, kept } from "./kept";

/** Whether pictures are drawn by the processor: then smooth edges while something moves cost more than they are worth. */
export const drawnInSoftware = (() => {
  // A context costs a tenth of a second to make: what was found stays known as long as the browser is the same one.
  const before = kept<{ browser: string; known: boolean } | null>("drawn in software", null);
  let known = before?.browser === navigator.userAgent ? before.known : null;
  return () => {
    if (known !== null) return known;
    const gl = document.createElement("canvas").getContext("webgl2");
    const told = gl?.getExtension("WEBGL_debug_renderer_info");
    known = told ? /swiftshader|llvmpipe|software/i.test(String(gl!.getParameter(told.UNMASKED_RENDERER_WEBGL))) : false;
    gl?.getExtension("WEBGL_lose_context")?.loseContext();
    keep("drawn in software", { browser: navigator.userAgent, known });
    return known;
  };
})();
