import * as THREE from '../vendor/three/three.module.js';

const INK = new THREE.Color(0x1e2a2e), MADDER = new THREE.Color(0xc4512d), BRASS = new THREE.Color(0xd9a02b), PAPER = new THREE.Color(0xfbf9f3);

/** Joints drawn as quills: a small ring at the joint and a tapering stroke to the next one. Madder ones are simulated. */
export class JointQuills {
  constructor(view, size) {
    this.view = view;
    this.size = size;
    this.object = new THREE.Group();
    this.hovered = this.chosen = -1;
    this.simulated = new Set();
    this._thick = size * 0.0052;
    const look = { depthTest: false, transparent: true, opacity: 0.92 };
    const stroke = new THREE.CylinderGeometry(0.06, 1, 1, 6, 1, false).translate(0, 0.5, 0);
    this._strokes = new THREE.InstancedMesh(stroke, new THREE.MeshBasicMaterial(look), Math.max(view.links.length, 1));
    this._rings = new THREE.InstancedMesh(new THREE.TorusGeometry(1, 0.3, 5, 14), new THREE.MeshBasicMaterial(look), view.joints.length);
    for (const mesh of [this._strokes, this._rings]) { mesh.frustumCulled = false; mesh.renderOrder = 10; this.object.add(mesh); }
    this._strokes.count = view.links.length;
  }

  /** Put all quills where the joints are, rings towards the camera. */
  update(camera) {
    if (!this.object.visible) return;
    const positions = this.view.positions();
    const at = (node) => new THREE.Vector3().fromArray(positions, 3 * node);
    const matrix = new THREE.Matrix4(), turn = new THREE.Quaternion(), up = new THREE.Vector3(0, 1, 0);
    this.view.links.forEach(([joint, child], index) => {
      const start = at(joint), along = at(child).sub(start), length = along.length();
      turn.setFromUnitVectors(up, length > 1e-9 ? along.clone().divideScalar(length) : up);
      const thick = Math.min(this._thick * 0.8, length * 0.12);
      this._strokes.setMatrixAt(index, matrix.compose(start, turn, new THREE.Vector3(thick, length, thick)));
      this._strokes.setColorAt(index, this._colour(joint));
    });
    this.view.joints.forEach((joint, index) => {
      const scale = this._thick * (joint === this.chosen || joint === this.hovered ? 1.9 : 1);
      this._rings.setMatrixAt(index, matrix.compose(at(joint), camera.quaternion, new THREE.Vector3(scale, scale, scale)));
      this._rings.setColorAt(index, this._colour(joint));
    });
    for (const mesh of [this._strokes, this._rings]) {
      mesh.instanceMatrix.needsUpdate = true;
      if (mesh.instanceColor) mesh.instanceColor.needsUpdate = true;
    }
  }

  _colour(joint) {
    if (joint === this.chosen) return BRASS;
    if (joint === this.hovered) return PAPER;
    return this.simulated.has(joint) ? MADDER : INK;
  }

  /** Pixel x, y and depth of every node, for picking. */
  project(camera, width, height) {
    const positions = this.view.positions(), point = new THREE.Vector3();
    const pixels = new Float32Array(positions.length);
    for (let i = 0; i < positions.length; i += 3) {
      point.fromArray(positions, i).project(camera);
      pixels[i] = (point.x * 0.5 + 0.5) * width; pixels[i + 1] = (0.5 - point.y * 0.5) * height; pixels[i + 2] = point.z;
    }
    return pixels;
  }
}
