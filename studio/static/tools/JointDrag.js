import * as THREE from '../vendor/three/three.module.js';

/** Radians that a joint turns for each pixel of the pointer's way. */
const PER_PIXEL = 0.012;

/** On the Rig step a joint is dragged to feel what it moves; let go, and it returns. */
export class JointDrag {
  constructor(viewport) {
    this.viewport = viewport;
    this._start = null;
  }

  get isOn() { return Boolean(document.getElementById('rig-joints')); }

  down(event) {
    if (!this.isOn || event.button || event.shiftKey) return false;
    const joint = this.viewport.jointUnder(event, this.viewport.quills.chosen, true);
    if (joint < 0) return false;
    this._start = { joint, x: event.clientX, y: event.clientY };
    return true;
  }

  move(event) {
    if (!this._start) return;
    const { matrixWorld } = this.viewport.stage.camera, right = new THREE.Vector3(), up = new THREE.Vector3();
    matrixWorld.extractBasis(right, up, new THREE.Vector3());
    const turn = new THREE.Quaternion().setFromAxisAngle(up, PER_PIXEL * (event.clientX - this._start.x));
    turn.multiply(new THREE.Quaternion().setFromAxisAngle(right, PER_PIXEL * (event.clientY - this._start.y)));
    this.viewport.view.bent = { node: this._start.joint, turn };
    this.viewport.invalidate();
  }

  up() {
    if (!this._start) return;
    this._start = null;
    this.viewport.view.bent = null;
    this.viewport.invalidate();
  }
}
