/** What this browser's WebGL is, asked once with one context that is given back. */
const answer = (() => {
  const context = document.createElement('canvas').getContext('webgl2');
  if (!context) return { canDraw: false, isSoftware: false };
  const info = context.getExtension('WEBGL_debug_renderer_info');
  const isSoftware = /SwiftShader|llvmpipe|Software/i.test(info ? context.getParameter(info.UNMASKED_RENDERER_WEBGL) : '');
  context.getExtension('WEBGL_lose_context')?.loseContext();
  return { canDraw: true, isSoftware };
})();

/** Whether the browser can draw at all. */
export const canDraw = answer.canDraw;
/** Whether WebGL is drawn by the processor, where smoothing of edges costs half the speed. */
export const isSoftware = answer.isSoftware;
