import * as THREE from '../vendor/three/three.module.js';
import { ownHeaders, showAnswer } from '../panel/requests.js';
import { OUT, FULL, Surface, paint } from '../viewport/maths/brush.js';

const byId = (id) => document.getElementById(id);
/** Two positions of a stroke are at least so much of the brush's radius apart. */
const SPACING = 0.3;

/** Painting a region on the stage: shows a stroke at once, sends it when it ends, and keeps what the server answers. */
export class Brush {
  constructor(viewport, store, { note, onPainted }) {
    this.viewport = viewport;
    this.store = store;
    this.note = note;
    this.onPainted = onPainted;
    this._surfaces = new Map();
    this._ring = new THREE.Mesh(new THREE.TorusGeometry(1, 0.012, 6, 64), new THREE.MeshBasicMaterial({ color: 0x1e2a2e, depthTest: false, transparent: true }));
    this._ring.renderOrder = 20;
    this._ring.visible = false;
    viewport.add(this._ring);
    this.stop();
  }

  get isOn() {
    return this.region !== null;
  }

  /** Take up the region that the side panel names, or put the brush down where it names none. */
  async follow() {
    const panel = byId('brush');
    if (!panel) { this.stop(); return; }
    const part = this.viewport.view.parts.find((each) => this._nameOf(each) === panel.dataset.mesh);
    const levels = new Uint8Array(await (await fetch(panel.dataset.levels)).arrayBuffer());
    if (!part || levels.length !== part.geometry.attributes.position.count) { this.stop(); this.note('This region belongs to a mesh that is not on the stage.'); return; }
    this.region = { part, levels, url: panel.dataset.paint };
    this._show(levels);
  }

  /** What the core calls a part: the mesh's own name, with a number where it has several primitives. */
  _nameOf(part) {
    return this.store.state.partNames[this.viewport.view.parts.indexOf(part)];
  }

  stop() {
    this.region = null;
    this.stroke = null;
    this.spot = null;
    this._ring.visible = false;
    this.viewport.view.influence.showRegion(null, null);
    this.viewport.invalidate();
  }

  _show(levels) {
    this.viewport.view.influence.showRegion(this.region.part, levels);
    this.viewport.invalidate();
  }

  get settings() {
    // Half of the size: a radius, in the space that the mesh is bound in.
    const radius = this._span(this.region.part.geometry) * Number(byId('brush-size').value) / 200;
    return {
      radius, strength: Number(byId('brush-strength').value) / 100, falloff: byId('brush-falloff').value,
      mode: document.querySelector('.modes input:checked').value, mirrored: byId('brush-mirror').checked,
    };
  }

  _span(geometry) {
    if (!geometry.boundingBox) geometry.computeBoundingBox();
    return geometry.boundingBox.getSize(new THREE.Vector3()).length();
  }

  _surface(part) {
    if (!this._surfaces.has(part)) this._surfaces.set(part, new Surface(part.geometry.attributes.position.array, part.geometry.index?.array ?? Array.from({ length: part.geometry.attributes.position.count }, (_, v) => v)));
    return this._surfaces.get(part);
  }

  /** The skin as it stands now, for finding what the pointer is on. */
  _body() { return this.viewport.trees.of(this.region.part, this.viewport.poseKey); }

  /** What is under a pointer event: {place in the world, place on the mesh at rest, normal, vertex}, or null. */
  under(event) {
    if (!this.region) return null;
    const bvh = this._body(), hit = bvh.raycastFirst(this.viewport.rayThrough(event), THREE.DoubleSide);
    if (!hit) return null;
    const corners = [hit.face.a, hit.face.b, hit.face.c];
    const at = (array, v) => new THREE.Vector3().fromArray(array, 3 * v);
    const posed = bvh.geometry.attributes.position.array, rest = this.region.part.geometry.attributes.position.array;
    const [a, b, c] = corners.map((v) => at(posed, v));
    const cornerWeights = THREE.Triangle.getBarycoord(hit.point, a, b, c, new THREE.Vector3()) ?? new THREE.Vector3(1, 0, 0);
    const place = new THREE.Vector3();
    corners.forEach((v, k) => place.addScaledVector(at(rest, v), cornerWeights.getComponent(k)));
    const nearest = corners[[cornerWeights.x, cornerWeights.y, cornerWeights.z].indexOf(Math.max(cornerWeights.x, cornerWeights.y, cornerWeights.z))];
    return { world: hit.point, place: place.toArray(), normal: hit.face.normal, vertex: nearest };
  }

  /** Whether a pointer's press begins a stroke or answers a command; false leaves it to the camera. */
  down(event) {
    if (!this.region || event.button !== 0) return false;
    const hit = this.under(event);
    if (!hit && this.spot) this._say(`That missed the mesh ${this.region.part.name || 'of the region'}. Click on it, or press the button again to call it off.`);
    if (!hit) return false;
    if (this.spot) { this._spotted(hit); return true; }
    this.stroke = { dabs: [], power: new Map(), settings: this.settings, seen: this._seen() };
    if (event.pointerType === 'pen' && event.pressure > 0) this.stroke.settings.strength *= event.pressure;
    this._dab(hit);
    return true;
  }

  move(event) {
    if (!this.region) return;
    const hit = this.under(event);
    this._mark(hit);
    if (this.stroke && hit) this._dab(hit);
  }

  async up() {
    if (!this.stroke) return;
    const { dabs, settings, seen } = this.stroke;
    this.stroke = null;
    await this._send({ ...settings, dabs, seen: seen && bitsOf(seen) });
  }

  _dab({ place }) {
    const { stroke } = this, last = stroke.dabs.at(-1);
    if (last && Math.hypot(...place.map((value, k) => value - last[k])) < SPACING * stroke.settings.radius) return;
    stroke.dabs.push(place);
    const surface = this._surface(this.region.part), { radius, falloff, mirrored } = stroke.settings;
    for (const dab of mirrored ? [place, [-place[0], place[1], place[2]]] : [place]) {
      for (const [where, power] of surface.dab(dab, radius, falloff)) stroke.power.set(where, Math.max(power, stroke.power.get(where) ?? 0));
    }
    this._show(paint(this.region.levels, surface, stroke.power, stroke.settings.strength, stroke.settings.mode, mirrored ? null : stroke.seen));
  }

  /** Which vertices face the eye; null, for all, where the skin is seen through. */
  _seen() {
    const isSeenThrough = document.querySelector('[data-look="xray"]').getAttribute('aria-pressed') === 'true';
    if (isSeenThrough) return null;
    const { geometry } = this._body(), eye = this.viewport.stage.camera.position;
    geometry.computeVertexNormals();
    const { array: positions } = geometry.attributes.position, { array: normals } = geometry.attributes.normal;
    const seen = new Uint8Array(positions.length / 3);
    for (let v = 0; v < seen.length; v++) {
      const i = 3 * v;
      seen[v] = normals[i] * (eye.x - positions[i]) + normals[i + 1] * (eye.y - positions[i + 1]) + normals[i + 2] * (eye.z - positions[i + 2]) > 0 ? 1 : 0;
    }
    return seen;
  }

  /** Wait for the positions that a command asks for. */
  begin(command) {
    // Pressed again, its button calls it off.
    this.spot = this.spot?.command === command ? null : { command, points: [] };
    this._showWaiting();
    if (!this.spot) { this._say(''); return; }
    this._say(command === 'gradient' ? 'Click where the influence is 0.' : 'Click a place on the character.');
  }

  /** Let the button of the command that waits for a click look pressed. */
  _showWaiting() {
    for (const button of document.querySelectorAll('[data-spot]')) button.setAttribute('aria-pressed', String(button.dataset.spot === this.spot?.command));
  }

  async _spotted(hit) {
    const { command, points } = this.spot;
    points.push(hit.place);
    if (command === 'gradient' && points.length < 2) { this._say('Now click where it is 1.'); return; }
    this.spot = null;
    this._showWaiting();
    this._say('');
    await this._send({ command, points, radius: this.settings.radius * 2 });
  }

  async _send(stroke) {
    const { region } = this;
    const response = await fetch(region.url, { method: 'POST', headers: ownHeaders(), body: JSON.stringify(stroke) });
    if (!response.ok) {
      await showAnswer(response);
      this._show(region.levels);
      return;
    }
    await showAnswer(response);
    region.levels = new Uint8Array(await response.arrayBuffer());
    if (this.region === region) this._show(region.levels);
    this.strokes = (this.strokes ?? 0) + 1;
    this.onPainted();
  }

  _mark(hit) {
    this._ring.visible = Boolean(hit);
    if (hit) {
      this._ring.position.copy(hit.world);
      this._ring.quaternion.setFromUnitVectors(new THREE.Vector3(0, 0, 1), hit.normal.clone().normalize());
      const { geometry } = this.region.part;
      this._ring.scale.setScalar(this.settings.radius * this._span(this._body().geometry) / this._span(geometry));
      const level = this.region.levels[hit.vertex];
      if (!this.spot) this._say(level === OUT ? 'Under the pointer: out' : `Under the pointer: in, ${(level / FULL).toFixed(2)}`);
    }
    this.viewport.invalidate();
  }

  _say(text) {
    const line = document.querySelector('.under-brush');
    if (line) line.textContent = text || '\u00a0';
  }
}

function bitsOf(flags) {
  const bytes = new Uint8Array(Math.ceil(flags.length / 8));
  flags.forEach((flag, index) => { if (flag) bytes[index >> 3] |= 1 << (index & 7); });
  let text = '';
  for (const byte of bytes) text += String.fromCharCode(byte);
  return btoa(text);
}
