import { readMessages } from '../timeline/frameStream.js';

/** Milliseconds after which a lost connection is tried again, longer each time. */
const FIRST_WAIT = 300, LONGEST_WAIT = 5000;
/** The code that a socket is closed with where there is nothing to look at. */
const GONE = 4404;

/**
 * The one stream of events of a page: what changed in the setup, what is new of the shown take, its frames.
 *
 * @typedef {object} Heard
 * @property {(event: { version: number, tab: string }) => void} onSetup
 * @property {(facts: { take: number | null, status: string, score: string }) => void} onTake
 * @property {(take: number, header: object) => void} onHeader
 * @property {(take: number, body: ArrayBuffer) => void} onChunk
 * @property {(take: number, facts: object) => void} onEnd
 * @property {(event: { job: string }) => void} onJob
 * @property {(isThere: boolean) => void} onLine
 */
export class EventStream {
  /** @param {string} url @param {Heard} heard */
  constructor(url, heard) {
    this.heard = heard;
    this.url = new URL(url, location.href);
    this.url.protocol = this.url.protocol === 'https:' ? 'wss:' : 'ws:';
    this._wait = FIRST_WAIT;
    this._wanted = this._beside = '';
    this._open();
  }

  /** Say which take the page looks at, '' for the one that fits the setup, and which one beside it, '' for none.
   * @param {string} take @param {string} [beside] */
  look(take, beside = '') {
    this._wanted = String(take);
    this._beside = String(beside);
    if (this._socket.readyState === WebSocket.OPEN) this._socket.send(JSON.stringify({ take: this._wanted, beside: this._beside }));
  }

  _open() {
    const socket = new WebSocket(this.url);
    socket.binaryType = 'arraybuffer';
    socket.onopen = () => { this._wait = FIRST_WAIT; this.heard.onLine(true); if (this._wanted || this._beside) this.look(this._wanted, this._beside); };
    socket.onmessage = (event) => (typeof event.data === 'string' ? this._event(JSON.parse(event.data)) : this._frames(event.data));
    socket.onclose = (event) => {
      // The character was removed, is not shared any more, or nobody is logged in: the page says which.
      if (event.code === GONE) { location.reload(); return; }
      this.heard.onLine(false);
      setTimeout(() => this._open(), this._wait);
      this._wait = Math.min(2 * this._wait, LONGEST_WAIT);
    };
    this._socket = socket;
  }

  _event(event) {
    if (event.kind === 'setup') this.heard.onSetup(event);
    else if (event.kind === 'take') this.heard.onTake(event);
    else if (event.kind === 'job') this.heard.onJob(event);
  }

  /** @param {ArrayBuffer} data the number of a take, then a message of its stream */
  _frames(data) {
    const take = new DataView(data).getUint32(0, true);
    readMessages(new Uint8Array(data, 4), {
      onChunk: (body) => this.heard.onChunk(take, body),
      onFacts: (facts) => (facts.end ? this.heard.onEnd(take, facts) : this.heard.onHeader(take, facts)),
    });
  }
}
