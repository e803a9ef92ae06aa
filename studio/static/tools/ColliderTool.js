import * as THREE from '../vendor/three/three.module.js';
import { ownHeaders, showAnswer } from '../panel/requests.js';
import { ColliderView } from '../viewport/ColliderView.js';

/** Shows colliders, or the box of a sheet's shape, while their panel is open, and lets the pointer choose, move, turn and resize them. */
export class ColliderTool {
  constructor(viewport, { announce }) {
    this.viewport = viewport;
    this.announce = announce;
    this.view = null;
    this.pressed = null;
  }

  /** What in the panel says where the shapes are asked for and sent to, and what names the chosen one in the address. */
  get _field() { return document.querySelector('[data-shapes]'); }

  /** Show what the panel says; called again when the setup or the panel changed. */
  async follow() {
    const field = this._field, { viewport } = this;
    // What is in the hand stays as it is; letting go shows the panel, and this, anew.
    if (this.pressed) return;
    const asked = this.asked = {};
    const response = field ? await fetch(field.dataset.shapes, { credentials: 'same-origin' }) : null;
    const found = response?.ok ? await response.json() : null;
    // Another call, or a press, came in between.
    if (asked !== this.asked || this.pressed) return;
    this.view?.dispose();
    this.view = null;
    if (found) {
      this.view = new ColliderView(viewport.view, found.colliders, field.dataset.chosen, viewport.size);
      viewport.add(this.view.object);
    }
    viewport.invalidate();
  }

  update() { this.view?.update(); }

  down(event) {
    if (!this.view || event.button !== 0 || event.shiftKey) return false;
    const box = this._box(), found = this.view.under(event.clientX - box.left, event.clientY - box.top, this.viewport.stage.camera, box.width, box.height);
    if (!found) return false;
    this.pressed = { found, x: event.clientX, y: event.clientY, isDragging: false };
    return true;
  }

  move(event) {
    const { pressed, viewport } = this;
    if (!pressed) {
      if (this.view && !event.buttons) this._hint(event);
      return;
    }
    if (!pressed.isDragging) {
      // A skin, a body or a hull is where the joints are: it is chosen, not dragged.
      if (pressed.found.item.isSurface || Math.hypot(event.clientX - pressed.x, event.clientY - pressed.y) < 4) return;
      pressed.isDragging = true;
      const middle = new THREE.Vector3().setFromMatrixPosition(pressed.found.item.now);
      const look = viewport.stage.camera.getWorldDirection(new THREE.Vector3());
      this.plane = new THREE.Plane().setFromNormalAndCoplanarPoint(look, middle);
      this.view.grab(pressed.found, this._place(pressed.x, pressed.y), look);
    }
    const at = this._place(event.clientX, event.clientY);
    if (at) this.view.drag(at);
    viewport.invalidate();
  }

  async up() {
    const { pressed } = this;
    this.pressed = null;
    if (!pressed) return;
    const { id } = pressed.found.item.facts;
    if (pressed.isDragging) {
      const placed = this.view.release();
      const url = this._field.dataset.move?.replace(/contacts\/[^/]+\/move/, `contacts/${id}/move`);
      await showAnswer(await fetch(url, { method: 'POST', credentials: 'same-origin', headers: ownHeaders(), body: JSON.stringify(placed) }));
      this.announce('setup-changed');
    }
    const panel = new URL(location.href);
    panel.searchParams.set(this._field?.dataset.names ?? 'collider', id);
    window.htmx.ajax('GET', panel.pathname + panel.search, { target: '#panel' });
  }

  _hint(event) {
    const box = this._box(), found = this.view.under(event.clientX - box.left, event.clientY - box.top, this.viewport.stage.camera, box.width, box.height);
    if (!found) return;
    event.target.style.cursor = found.item.isSurface ? 'pointer' : 'move';
    const label = document.getElementById('joint-label');
    label.hidden = false;
    label.textContent = found.item.facts.name;
  }

  _box() { return document.getElementById('canvas').getBoundingClientRect(); }

  /** Where the pointer's ray meets the plane of the drag. */
  _place(x, y) {
    const box = this._box(), ray = new THREE.Raycaster();
    ray.setFromCamera(new THREE.Vector2(((x - box.left) / box.width) * 2 - 1, 1 - ((y - box.top) / box.height) * 2), this.viewport.stage.camera);
    return ray.ray.intersectPlane(this.plane, new THREE.Vector3());
  }
}
