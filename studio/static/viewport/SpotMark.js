import * as THREE from '../vendor/three/three.module.js';

/** A plum ring around a vertex that something is to be seen at, such as the one that is deepest in something. */
export class SpotMark {
  constructor(view, size) {
    this.view = view;
    this.spot = null;
    const look = { color: 0x7a2e5d, depthTest: false, transparent: true, opacity: 0.9 };
    this.object = new THREE.Mesh(new THREE.TorusGeometry(size * 0.022, size * 0.0026, 6, 32), new THREE.MeshBasicMaterial(look));
    this.object.renderOrder = 14;
    this.object.visible = false;
  }

  /** Mark a vertex of a part, or none where that is negative; where a frame is given, it goes away when another one is shown. */
  mark(part, vertex, frame = null) { this.spot = part >= 0 ? { part, vertex, frame } : null; }

  update(camera, frame) {
    const { spot, view } = this;
    this.object.visible = Boolean(spot && (spot.frame ?? frame) === frame && view.parts[spot.part]);
    if (!this.object.visible) return;
    this.object.position.copy(view.placeOf(view.parts[spot.part], spot.vertex));
    this.object.quaternion.copy(camera.quaternion);
  }
}
