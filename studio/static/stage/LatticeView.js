import * as THREE from '../vendor/three/three.module.js';

const KEYED = new THREE.Color(0x3f6c8c), SIMULATED = new THREE.Color(0xc4512d);

/** A solid's lattice where the joints carry it: its outside edges, blue where it is held, madder where it is free. */
export class LatticeView {
  constructor(view, body) {
    const [nodes, edges, tets, fixed] = new Uint32Array(body, 0, 4);
    Object.assign(this, { view, nodes, tets, fixed });
    let at = 16;
    const take = (Kind, count) => { const values = new Kind(body, at, count); at += 4 * count; return values; };
    this.rest = take(Float32Array, 3 * nodes);
    const holds = take(Float32Array, nodes);
    this.joints = take(Int32Array, 4 * nodes);
    this.weights = take(Float32Array, 4 * nodes);
    const geometry = new THREE.BufferGeometry();
    geometry.setAttribute('position', new THREE.BufferAttribute(this.rest.slice(), 3).setUsage(THREE.DynamicDrawUsage));
    const colours = new Float32Array(3 * nodes), colour = new THREE.Color();
    for (let n = 0; n < nodes; n++) colour.copy(SIMULATED).lerp(KEYED, Math.min(1, holds[n])).toArray(colours, 3 * n);
    geometry.setAttribute('color', new THREE.BufferAttribute(colours, 3));
    geometry.setIndex(new THREE.BufferAttribute(take(Uint32Array, 2 * edges), 1));
    this.object = new THREE.LineSegments(geometry, new THREE.LineBasicMaterial({ vertexColors: true, transparent: true, opacity: 0.55, depthTest: false }));
    this.object.frustumCulled = false;
    this.object.renderOrder = 8;
    this._findRest();
  }

  /** From the rest pose's world back into each joint that carries a node. */
  _findRest() {
    const { view } = this, used = new Set(this.joints);
    const now = view.nodes.map((node) => [node.position.clone(), node.quaternion.clone(), node.scale.clone()]);
    view.pose(0, null, null);
    this.back = new Map([...used].map((joint) => [joint, view.nodes[joint].matrixWorld.clone().invert()]));
    view.nodes.forEach((node, k) => { node.position.copy(now[k][0]); node.quaternion.copy(now[k][1]); node.scale.copy(now[k][2]); });
    view.scene.updateMatrixWorld(true);
  }

  /** Put the nodes where the joints carry them now. */
  update() {
    const { rest, joints, weights, view } = this, target = this.object.geometry.attributes.position;
    const carried = new Map([...this.back].map(([joint, back]) => [joint, view.nodes[joint].matrixWorld.clone().multiply(back).elements]));
    for (let n = 0; n < this.nodes; n++) {
      const x = rest[3 * n], y = rest[3 * n + 1], z = rest[3 * n + 2];
      let px = 0, py = 0, pz = 0;
      for (let k = 4 * n; k < 4 * n + 4; k++) {
        const w = weights[k];
        if (w === 0) continue;
        const m = carried.get(joints[k]);
        px += w * (m[0] * x + m[4] * y + m[8] * z + m[12]);
        py += w * (m[1] * x + m[5] * y + m[9] * z + m[13]);
        pz += w * (m[2] * x + m[6] * y + m[10] * z + m[14]);
      }
      target.array[3 * n] = px; target.array[3 * n + 1] = py; target.array[3 * n + 2] = pz;
    }
    target.needsUpdate = true;
  }

  dispose() {
    this.object.removeFromParent();
    this.object.geometry.dispose();
    this.object.material.dispose();
  }
}
