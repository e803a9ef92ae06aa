import * as THREE from '../vendor/three/three.module.js';
import { vertexUnder } from './skinPicking.js';

/** Picks points of one mesh on the stage for a form that asks for them: fields `mesh` and `vertices`. */
export class PointPicker {
  constructor(desk) {
    Object.assign(this, { desk, form: null, picked: [] });
    const material = new THREE.PointsMaterial({ color: 0xd9a02b, size: 9, sizeAttenuation: false, depthTest: false, transparent: true });
    this.object = new THREE.Points(new THREE.BufferGeometry(), material);
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
    const hit = vertexUnder(this.desk, event);
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
    const { form, picked, desk } = this;
    for (const button of document.querySelectorAll('[data-pick]')) button.setAttribute('aria-pressed', String(button.form === form));
    if (form) {
      form.elements.mesh.value = picked.length ? desk.partNames[picked[0].mesh] : '';
      form.elements.vertices.value = picked.map(({ vertex }) => vertex).join(' ');
      form.querySelector('.picked').textContent = `${picked.length} point${picked.length === 1 ? '' : 's'}${picked.length ? ` of ${form.elements.mesh.value}` : ''}${picked.length < 3 ? ', three say how it turns' : ''}`;
    }
    desk.stage?.invalidate();
  }

  update() {
    this.object.visible = this.isOn && this.picked.length > 0;
    if (!this.object.visible) return;
    const places = this.picked.flatMap(({ mesh, vertex }) => this.desk.view.placeOf(this.desk.view.parts[mesh], vertex).toArray());
    this.object.geometry.setAttribute('position', new THREE.BufferAttribute(new Float32Array(places), 3));
  }
}
