/** Reads the length-prefixed messages of a stream of frames as they arrive. */
export async function readFrames(url, signal, { onHeader, onChunk, onEnd }) {
  const response = await fetch(url, { signal, credentials: 'same-origin' });
  if (!response.ok) throw new Error(`the frames did not come (${response.status})`);
  const reader = response.body.getReader();
  let pending = new Uint8Array(0);
  for (;;) {
    const { done, value } = await reader.read();
    if (done) return;
    const joined = new Uint8Array(pending.length + value.length);
    joined.set(pending); joined.set(value, pending.length);
    pending = takeMessages(joined, (kind, body) => {
      if (kind === 1) { onChunk(body); return; }
      const facts = JSON.parse(new TextDecoder().decode(body));
      if (facts.end) onEnd(facts); else onHeader(facts);
    });
  }
}

/** Hand whole messages to use(kind, ArrayBuffer); returns the bytes that are left. */
export function takeMessages(bytes, use) {
  let at = 0;
  while (bytes.length - at >= 8) {
    const view = new DataView(bytes.buffer, bytes.byteOffset + at);
    const length = view.getUint32(0, true);
    if (bytes.length - at - 8 < length) break;
    use(view.getUint32(4, true), bytes.slice(at + 8, at + 8 + length).buffer);
    at += 8 + length;
  }
  return bytes.slice(at);
}

/** The message that begins at a byte of a buffer: {kind, body (ArrayBuffer)}.
 * @param {ArrayBuffer} buffer @param {number} at */
export function readMessage(buffer, at) {
  const view = new DataView(buffer, at), length = view.getUint32(0, true);
  return { kind: view.getUint32(4, true), body: buffer.slice(at + 8, at + 8 + length) };
}
