/** Hand each message of a stream of frames (whole ones, length-prefixed) on: a chunk's body, or the facts that any other holds.
 * @param {Uint8Array} bytes
 * @param {{ onChunk: (body: ArrayBuffer) => void, onFacts: (facts: any) => void }} heard */
export function readMessages(bytes, { onChunk, onFacts }) {
  const view = new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength);
  for (let at = 0, length = 0; at < bytes.length; at += 8 + length) {
    length = view.getUint32(at, true);
    const body = bytes.slice(at + 8, at + 8 + length).buffer;
    if (view.getUint32(at + 4, true) === 1) onChunk(body);
    else onFacts(JSON.parse(new TextDecoder().decode(body)));
  }
}
