import * as THREE from '../vendor/three/three.module.js';
import { FrameStore } from '../timeline/FrameStore.js';
import { readMessages } from '../timeline/frameStream.js';

const byId = (id) => document.getElementById(id);
const TOO_MANY = 4429;
/** A thrown ball starts so far along the way from the eye. */
const FROM_EYE = 0.35;

/** Poking the character: asks the app to simulate it live, and shows each frame as it comes. */
export class Poke {
  /** `hold` stops the player, as what is poked stands in one frame; `onChange` is called when it begins and ends. */
  constructor(viewport, { note, hold, frameNow, onChange }) {
    this.viewport = viewport;
    this.note = note;
    this.hold = hold;
    this.frameNow = frameNow;
    this.onChange = onChange;
    this.socket = null;
    this.store = null;
    this.tool = 'pull';
    this.grip = null;
    this.shown = 0;
    this._things = { ball: null, plate: null };
    byId('poke').addEventListener('keydown', (event) => this._choosesByKey(event));
  }

  /** Arrow keys go through a radio group. */
  _choosesByKey(event) {
    const step = { ArrowRight: 1, ArrowDown: 1, ArrowLeft: -1, ArrowUp: -1 }[event.key];
    if (!step || event.target.getAttribute('role') !== 'radio') return;
    event.preventDefault();
    event.stopPropagation();
    const radios = [...byId('poke').querySelectorAll('[role="radio"]')];
    const next = radios[(radios.indexOf(event.target) + step + radios.length) % radios.length];
    this.choose(next.dataset.poke);
    next.focus();
  }

  get isOn() { return this.socket !== null; }

  toggle() { if (this.isOn) this.stop(); else this.start(); }

  start() {
    const field = byId('poke');
    this.hold();
    const url = new URL(field.dataset.url, location.href);
    url.protocol = url.protocol === 'https:' ? 'wss:' : 'ws:';
    const socket = this.socket = new WebSocket(url);
    socket.binaryType = 'arraybuffer';
    socket.onopen = () => this._tell({ clip: field.dataset.clip, frame: Math.round(this.frameNow()) });
    socket.onmessage = (event) => this._take(new Uint8Array(event.data));
    socket.onclose = (event) => {
      if (this.socket !== socket) return;
      this.stop();
      if (event.code === TOO_MANY) this.note('Two live sessions are open; close one first.');
      else if (!this._ended) this.note('The live session ended. Try again.');
    };
    this._ended = false;
    this._look();
    this._say('getting ready …');
  }

  stop() {
    const { socket, viewport } = this;
    this.socket = this.store = this.grip = null;
    this._ended = true;
    socket?.close();
    for (const thing of Object.values(this._things)) if (thing) thing.visible = false;
    this._look();
    this._say('');
    viewport.invalidate();
  }

  choose(tool) {
    if (tool === 'drop') { this._tell({ do: 'drop' }); return; }
    this.up();
    this.tool = tool;
    this._look();
  }

  /** Whether a press is the hand's. */
  down(event) {
    if (!this.store || event.button !== 0 || event.shiftKey) return false;
    const hit = this.viewport.vertexUnder(event, true);
    if (this.tool === 'throw') { this._throw(event, hit); return true; }
    if (!hit) return false;
    this.grip = new THREE.Plane().setFromNormalAndCoplanarPoint(this.viewport.stage.camera.getWorldDirection(new THREE.Vector3()), hit.point);
    if (this.tool === 'press') this._press(hit.point);
    else this._tell({ do: 'grab', mesh: hit.mesh, vertex: hit.vertex, at: hit.point.toArray(), whole: this.tool === 'carry' });
    return true;
  }

  move(event) {
    if (!this.grip) return;
    const at = this.viewport.rayThrough(event).intersectPlane(this.grip, new THREE.Vector3());
    if (!at) return;
    if (this.tool === 'press') this._press(at);
    else this._tell({ do: 'move', to: at.toArray() });
  }

  up() {
    if (!this.grip) return;
    this.grip = null;
    this._tell({ do: this.tool === 'press' ? 'press' : 'release' });
  }

  _press(at) { this._tell({ do: 'press', to: [at.x, at.y + this.sizes.plate[1], at.z] }); }

  _throw(event, hit) {
    const { camera, controls } = this.viewport.stage, ray = this.viewport.rayThrough(event);
    const at = hit?.point ?? ray.at(camera.position.distanceTo(controls.target), new THREE.Vector3());
    const from = camera.position.clone().lerp(at, FROM_EYE);
    this._tell({ do: 'throw', from: from.toArray(), at: at.toArray() });
  }

  _take(bytes) {
    readMessages(bytes, {
      onChunk: (body) => this._frame(body),
      onFacts: (facts) => {
        if (facts.end) { this._ended = true; this.note(facts.message); this.stop(); }
        else if (facts.refused) this._say(facts.refused);
        else if (facts.rotated) this._pending = new FrameStore(facts);
        else if (facts.frame) this._place(facts);
        else this.sizes = facts.things;
      },
    });
  }

  _frame(body) {
    if (!this._pending) return;
    this._pending.add(body);
    this.store = this._pending;
    this.viewport.invalidate();
    const socket = this.socket, count = this.shown;
    // What was drawn is told, so that no frames pile up that nobody sees.
    requestAnimationFrame(() => { if (this.socket === socket) this._tell({ seen: count }); });
  }

  _place({ frame, things, costMs }) {
    const now = performance.now();
    this.shown = frame;
    this._marks = [...(this._marks ?? []).filter((mark) => now - mark < 1000), now];
    if (frame === 1) this._marks = [now];
    this._say(`${this._marks.length} frames a second, ${costMs.toFixed(0)} ms each`);
    for (const name of ['ball', 'plate']) {
      const place = things[name];
      if (place && !this._things[name]) this.viewport.add(this._things[name] = this._make(name));
      if (this._things[name]) { this._things[name].visible = Boolean(place); if (place) this._things[name].position.fromArray(place); }
    }
  }

  _make(name) {
    const { sizes } = this;
    const geometry = name === 'ball' ? new THREE.SphereGeometry(sizes.ball, 32, 20) : new THREE.BoxGeometry(...sizes.plate.map((side) => 2 * side));
    const thing = new THREE.Mesh(geometry, new THREE.MeshStandardMaterial(name === 'ball' ? { color: 0xd9a02b, roughness: 0.7 } : { color: 0x8fa3a0, roughness: 0.85, transparent: true, opacity: 0.8 }));
    thing.castShadow = true;
    return thing;
  }

  _tell(wish) { if (this.socket?.readyState === WebSocket.OPEN) this.socket.send(JSON.stringify(wish)); }

  _say(text) { byId('poke-says').textContent = text; }

  _look() {
    const field = byId('poke');
    field.classList.toggle('is-on', this.isOn);
    field.querySelector('[data-act="poke"]').setAttribute('aria-pressed', String(this.isOn));
    field.querySelector('.poke-tools').hidden = !this.isOn;
    for (const button of field.querySelectorAll('[role="radio"]')) { button.setAttribute('aria-checked', String(button.dataset.poke === this.tool)); button.tabIndex = button.dataset.poke === this.tool ? 0 : -1; }
    this.onChange();
  }
}
