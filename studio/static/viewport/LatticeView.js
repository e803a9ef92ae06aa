import * as THREE from '../vendor/three/three.module.js';

const KEYED = new THREE.Color(0x3f6c8c), SIMULATED = new THREE.Color(0xc4512d), PAPER = new THREE.Color(0xfbf9f3);
const FACES = [0, 1, 2, 0, 1, 3, 0, 2, 3, 1, 2, 3];

/** How far the tetrahedra are drawn apart, and how large the carried skin's dots are [pixels]. */
const GAP = 0.12, DOT = 3;

/** A solid where the joints carry it, three ways: the edges of its outside, its tetrahedra as cut paper, the skin it carries.
 *  Blue is held, madder is free. `wants` says which are shown: {wire, paper, skin, cut 0..1}. */
export class LatticeView {
  constructor(view, body, wants) {
    const [nodes, edges, tets, fixed] = new Uint32Array(body, 0, 4);
    this.view = view;
    this.nodes = nodes;
    this.fixed = fixed;
    this.count = tets;
    this.wants = wants;
    let at = 16;
    const take = (Kind, count) => { const values = new Kind(body, at, count); at += 4 * count; return values; };
    this.rest = take(Float32Array, 3 * nodes);
    this.holds = take(Float32Array, nodes);
    this.joints = take(Int32Array, 4 * nodes);
    this.weights = take(Float32Array, 4 * nodes);
    const outside = take(Uint32Array, 2 * edges);
    this.tets = take(Uint32Array, 4 * tets);
    const [carried] = take(Uint32Array, 1);
    this.corners = take(Uint32Array, 4 * carried);
    this.cornerWeights = take(Float32Array, 4 * carried);
    this.positions = this.rest.slice();
    this.object = new THREE.Group();
    this.wire = this._shown(new THREE.LineSegments(this._wireGeometry(outside), new THREE.LineBasicMaterial({ vertexColors: true, transparent: true, opacity: 0.55, depthTest: false })), 8);
    this.paper = this._shown(new THREE.Mesh(this._paperGeometry(), new THREE.MeshLambertMaterial({ vertexColors: true, flatShading: true, side: THREE.DoubleSide })), 9);
    this.skin = this._shown(new THREE.Points(this._skinGeometry(carried), new THREE.PointsMaterial({ color: 0x1e2a2e, size: DOT, sizeAttenuation: false, depthTest: false })), 10);
    this._findRest();
  }

  _shown(object, order) {
    object.frustumCulled = false;
    object.renderOrder = order;
    this.object.add(object);
    return object;
  }

  _geometry(count) {
    return new THREE.BufferGeometry().setAttribute('position', new THREE.BufferAttribute(new Float32Array(3 * count), 3).setUsage(THREE.DynamicDrawUsage));
  }

  _wireGeometry(outside) {
    const geometry = this._geometry(this.nodes), colours = new Float32Array(3 * this.nodes), colour = new THREE.Color();
    for (let n = 0; n < this.nodes; n++) colour.copy(SIMULATED).lerp(KEYED, Math.min(1, this.holds[n])).toArray(colours, 3 * n);
    return geometry.setAttribute('color', new THREE.BufferAttribute(colours, 3)).setIndex(new THREE.BufferAttribute(outside, 1));
  }

  /** Four faces a tetrahedron, with corners of their own, so that each is one flat piece of paper. */
  _paperGeometry() {
    const geometry = this._geometry(12 * this.count), colours = new Float32Array(36 * this.count), colour = new THREE.Color();
    for (let t = 0; t < this.count; t++) {
      let hold = 0;
      for (let k = 0; k < 4; k++) hold += Math.min(1, this.holds[this.tets[4 * t + k]]) / 4;
      colour.copy(SIMULATED).lerp(KEYED, hold).lerp(PAPER, 0.2);
      for (let k = 0; k < 12; k++) colour.toArray(colours, 36 * t + 3 * k);
    }
    return geometry.setAttribute('color', new THREE.BufferAttribute(colours, 3));
  }

  _skinGeometry(carried) { return this._geometry(carried); }

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
    const { rest, joints, weights, view, positions } = this;
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
      positions[3 * n] = px; positions[3 * n + 1] = py; positions[3 * n + 2] = pz;
    }
    const { wire, paper, skin, cut } = this.wants;
    this.wire.visible = wire; this.paper.visible = paper; this.skin.visible = skin;
    if (wire) this._fill(this.wire, (target) => target.set(positions));
    if (paper) this._fill(this.paper, (target) => this._cutPaper(target, Math.ceil(cut * this.count)));
    if (skin) this._fill(this.skin, (target) => this._carry(target));
  }

  _fill(object, fill) {
    const target = object.geometry.attributes.position;
    fill(target.array);
    target.needsUpdate = true;
  }

  _cutPaper(target, count) {
    const { tets, positions } = this, corner = new Float32Array(12);
    for (let t = 0; t < count; t++) {
      for (let axis = 0; axis < 3; axis++) {
        let middle = 0;
        for (let k = 0; k < 4; k++) middle += positions[3 * tets[4 * t + k] + axis] / 4;
        for (let k = 0; k < 4; k++) corner[3 * k + axis] = middle + (1 - GAP) * (positions[3 * tets[4 * t + k] + axis] - middle);
      }
      for (let k = 0; k < 12; k++) for (let axis = 0; axis < 3; axis++) target[36 * t + 3 * k + axis] = corner[3 * FACES[k] + axis];
    }
    this.paper.geometry.setDrawRange(0, 12 * count);
  }

  _carry(target) {
    const { corners, cornerWeights, positions } = this;
    for (let v = 0; v < target.length / 3; v++) {
      for (let axis = 0; axis < 3; axis++) {
        let sum = 0;
        for (let k = 4 * v; k < 4 * v + 4; k++) sum += cornerWeights[k] * positions[3 * corners[k] + axis];
        target[3 * v + axis] = sum;
      }
    }
  }

  dispose() {
    this.object.removeFromParent();
    for (const part of [this.wire, this.paper, this.skin]) { part.geometry.dispose(); part.material.dispose(); }
  }
}
