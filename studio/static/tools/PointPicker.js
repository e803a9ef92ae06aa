import * as THREE from '../vendor/three/three.module.js';

/** Points that can be picked, as many as the core takes. */
const MOST = 64;

/** Picks points of one mesh on the stage for a form that asks for them: fields `mesh` and `vertices`. */
export class PointPicker {
  constructor(viewport, store) {
    this.viewport = viewport;
    this.store = store;
    this.form = null;
    this.picked = [];
    const material = new THREE.PointsMaterial({ color: 0xd9a02b, size: 9, sizeAttenuation: false, depthTest: false, transparent: true });
    const geometry = new THREE.BufferGeometry().setAttribute('position', new THREE.BufferAttribute(new Float32Array(3 * MOST), 3).setUsage(THREE.DynamicDrawUsage));
    this.object = new THREE.Points(geometry, material);
    this.object.frustumCulled = false;
    this.object.renderOrder = 14;
  }

  get isOn() { return Boolean(this.form?.isConnected); }

  /** Begin for a form, or end where it is the one already. */
  toggle(form) {
    this.form = this.form === form ? null : form;
    this.picked = [];
    this._tell();
  }

  down(event) {
    if (!this.isOn || event.button !== 0 || event.shiftKey) return false;
    const hit = this.viewport.vertexUnder(event);
    if (!hit) return false;
    if (this.picked.length && this.picked[0].mesh !== hit.mesh) this.picked = [];
    const known = this.picked.findIndex(({ vertex }) => vertex === hit.vertex);
    if (known >= 0) this.picked.splice(known, 1); else this.picked.push(hit);
    this._tell();
    return true;
  }

  move() {}

  up() {}

  _tell() {
    const { form, picked, viewport, store } = this;
    for (const button of document.querySelectorAll('[data-pick]')) button.setAttribute('aria-pressed', String(button.form === form));
    if (form) {
      form.elements.mesh.value = picked.length ? store.state.partNames[picked[0].mesh] : '';
      form.elements.vertices.value = picked.map(({ vertex }) => vertex).join(' ');
      form.querySelector('.picked').textContent = `${picked.length} point${picked.length === 1 ? '' : 's'}${picked.length ? ` of ${form.elements.mesh.value}` : ''}${picked.length < 3 && form.querySelector('[data-pick=""]') ? '; pick three or more to follow rotation' : ''}`;
    }
    viewport.invalidate();
  }

  update() {
    this.object.visible = this.isOn && this.picked.length > 0;
    if (!this.object.visible) return;
    const { view } = this.viewport, { position } = this.object.geometry.attributes;
    this.picked.slice(0, MOST).forEach(({ mesh, vertex }, k) => view.placeOf(view.parts[mesh], vertex).toArray(position.array, 3 * k));
    this.object.geometry.setDrawRange(0, Math.min(this.picked.length, MOST));
    position.needsUpdate = true;
  }
}
