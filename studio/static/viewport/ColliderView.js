import * as THREE from '../vendor/three/three.module.js';
import { contourDots, handlesOf, resized, swung } from './maths/outlines.js';

const INK = 0x1e2a2e, BRASS = 0xd9a02b, MUTED = 0x8a948f, PAPER = 0xf4efe4;
/** Dots on the screen [pixels], and how close to one a press must be to take its collider. */
const DOT = 2.2, CHOSEN_DOT = 3.4, NEAR = 9, HANDLE = 13, HANDLE_NEAR = 13;
/** Handles that turn, and how far outside they are, as a share of the character's size. */
const TURNING = ['tip', 'spin'], OUTSIDE = 0.05;

/** The colliders of a setup as dotted contour rings that ride on their joints; the chosen one has brass handles that size it and pale ones that turn it. */
export class ColliderView {
  constructor(view, colliders, chosen, size) {
    this.view = view;
    this.size = size;
    this.chosen = chosen;
    this.object = new THREE.Group();
    view.pose(0, null, null);
    this.items = colliders.map((facts) => this._item(facts));
    this.handles = this._handlePoints();
    this.object.add(...this.handles);
  }

  /** A surface: dots that each ride on the node which carries them most. */
  _surface(facts) {
    const { nodes, positions } = facts.dots, item = { facts, isSurface: true, node: null, now: new THREE.Matrix4(), dots: new Float32Array(positions.length) };
    item.own = nodes.map((node, k) => [this.view.nodes[node], new THREE.Vector3().fromArray(positions, 3 * k)]);
    item.points = [0.85, 0.16].map((opacity, index) => this._dotPoints(facts, opacity, index === 0));
    for (const points of item.points) points.geometry.setAttribute('position', new THREE.BufferAttribute(item.dots, 3));
    return item;
  }

  _placeDots(item) {
    const place = new THREE.Vector3();
    item.own.forEach(([node, own], k) => place.copy(own).applyMatrix4(node.matrixWorld).toArray(item.dots, 3 * k));
    for (const points of item.points) points.geometry.attributes.position.needsUpdate = true;
  }

  _item(facts) {
    if (facts.dots) return this._surface(facts);
    const rest = new THREE.Matrix4().compose(new THREE.Vector3(...facts.place), new THREE.Quaternion(...facts.turn), new THREE.Vector3(1, 1, 1));
    const node = facts.node < 0 ? null : this.view.nodes[facts.node];
    const restNode = node ? node.matrixWorld.clone() : new THREE.Matrix4();
    const item = { facts, node, restNode, rest, onNode: restNode.clone().invert().multiply(rest), dots: new Float32Array(0), now: rest.clone() };
    item.points = [0.85, 0.16].map((opacity, index) => this._dotPoints(facts, opacity, index === 0));
    this._fill(item);
    return item;
  }

  _dotPoints(facts, opacity, isHidden) {
    const isChosen = facts.id === this.chosen;
    const material = new THREE.PointsMaterial({
      color: isChosen ? BRASS : facts.isOn ? INK : MUTED, size: isChosen ? CHOSEN_DOT : DOT, sizeAttenuation: false,
      transparent: true, opacity: facts.isOn ? opacity : opacity * 0.4, depthTest: isHidden, depthWrite: false,
    });
    const points = new THREE.Points(new THREE.BufferGeometry(), material);
    points.frustumCulled = false;
    points.renderOrder = 6;
    points.matrixAutoUpdate = false;
    this.object.add(points);
    return points;
  }

  _fill(item) {
    const dots = new Float32Array(contourDots(item.facts, this.size));
    const [{ geometry }] = item.points, known = geometry.attributes.position;
    if (!known || known.array.length < dots.length) {
      // Room to grow in: each shape is sized many times while it is dragged. What is outgrown is given back.
      geometry.dispose();
      geometry.setAttribute('position', new THREE.BufferAttribute(new Float32Array(2 * dots.length), 3).setUsage(THREE.DynamicDrawUsage));
    }
    const { position } = geometry.attributes;
    position.array.set(dots);
    position.needsUpdate = true;
    geometry.setDrawRange(0, dots.length / 3);
    item.dots = position.array.subarray(0, dots.length);
    for (const points of item.points) points.geometry = geometry;
  }

  _handlePoints() {
    /** @type {[number, number, boolean | null][]} */
    const layers = [[INK, HANDLE, null], [BRASS, HANDLE - 5, false], [PAPER, HANDLE - 4, true]];
    return layers.map(([color, size, turns], index) => {
      const material = new THREE.PointsMaterial({ color, size, sizeAttenuation: false, depthTest: false, transparent: true, map: roundSpot(), alphaTest: 0.5 });
      const geometry = new THREE.BufferGeometry().setAttribute('position', new THREE.BufferAttribute(new Float32Array(15), 3));
      const points = new THREE.Points(geometry, material);
      points.frustumCulled = false;
      points.renderOrder = 12 + index;
      points.userData.turns = turns;
      return points;
    });
  }

  get chosenItem() { return this.items.find(({ facts }) => facts.id === this.chosen); }

  /** Put everything where the joints are now. */
  update() {
    const place = new THREE.Vector3(), turn = new THREE.Quaternion(), scale = new THREE.Vector3();
    for (const item of this.items) {
      if (item.isSurface) { this._placeDots(item); continue; }
      item.now.copy(item.node ? item.node.matrixWorld.clone().multiply(item.onNode) : item.rest);
      item.now.decompose(place, turn, scale);
      item.now.compose(place, turn, new THREE.Vector3(1, 1, 1));
      for (const points of item.points) points.matrix.copy(item.now);
    }
    const item = this.chosenItem, has = Boolean(item && !item.isSurface && item.facts.shape !== 'ground');
    for (const points of this.handles) {
      points.visible = has;
      if (!has) continue;
      const spots = points.geometry.attributes.position, { turns } = points.userData;
      const shown = Object.entries(this._handlePositions(item)).filter(([handle]) => turns === null || turns === TURNING.includes(handle));
      shown.forEach(([, spot], index) => spots.setXYZ(index, ...spot.toArray()));
      points.geometry.setDrawRange(0, shown.length);
      spots.needsUpdate = true;
    }
  }

  _handlePositions({ facts, now }) {
    const positions = Object.entries(handlesOf(facts, OUTSIDE * this.size));
    return Object.fromEntries(positions.map(([handle, place]) => [handle, new THREE.Vector3(...place).applyMatrix4(now)]));
  }

  /** What a press at a pixel takes: {item, handle} or null. */
  under(x, y, camera, width, height) {
    const pixel = new THREE.Vector3();
    const away = (point) => {
      pixel.copy(point).project(camera);
      return Math.hypot((pixel.x * 0.5 + 0.5) * width - x, (0.5 - pixel.y * 0.5) * height - y);
    };
    const chosen = this.chosenItem;
    if (chosen && !chosen.isSurface) {
      for (const [handle, place] of Object.entries(this._handlePositions(chosen))) if (away(place) < HANDLE_NEAR) return { item: chosen, handle };
    }
    let best = null, least = NEAR;
    const point = new THREE.Vector3();
    for (const item of this.items) {
      for (let k = 0; k < item.dots.length; k += 3) {
        const distance = away(point.fromArray(item.dots, k).applyMatrix4(item.now)) - (item === chosen ? 3 : 0);
        if (distance < least) { least = distance; best = { item, handle: null }; }
      }
    }
    return best;
  }

  /** Begin to drag what `under` found; `at` is the pointer's place in the plane through the collider that `look`, the camera's way, crosses. */
  grab({ item, handle }, at, look) {
    this.held = { item, handle, at, look, onNode: item.onNode.clone(), now: item.now.clone(), size: [...item.facts.size] };
  }

  /** The pointer is at another place now. */
  drag(at) {
    const { item, handle } = this.held;
    if (TURNING.includes(handle)) { this._turn(at); return; }
    if (handle) {
      const local = at.clone().applyMatrix4(item.now.clone().invert());
      item.facts.size = resized({ ...item.facts, size: this.held.size }, handle, [local.y, local.x, local.z]);
      this._reshape(item);
      return;
    }
    const linear = new THREE.Matrix3().setFromMatrix4(item.node ? item.node.matrixWorld : new THREE.Matrix4()).invert();
    const shift = at.clone().sub(this.held.at).applyMatrix3(linear);
    item.onNode.copy(this.held.onNode).setPosition(new THREE.Vector3().setFromMatrixPosition(this.held.onNode).add(shift));
    item.rest.copy(item.restNode).multiply(item.onNode);
  }

  /** Turn it about its centre, so that the handle goes with the pointer. */
  _turn(at) {
    const { item, handle, look, now } = this.held, centre = new THREE.Vector3().setFromMatrixPosition(now);
    const from = new THREE.Vector3(...handlesOf(item.facts, OUTSIDE * this.size)[handle]).applyMatrix4(now).sub(centre);
    const flat = from.clone().projectOnPlane(look).add(at).sub(this.held.at).projectOnPlane(look);
    const to = new THREE.Vector3(...swung(from.toArray(), flat.toArray(), look.toArray()));
    const turn = new THREE.Quaternion().setFromUnitVectors(from.clone().normalize(), to.normalize());
    const turned = new THREE.Matrix4().makeRotationFromQuaternion(turn).multiply(new THREE.Matrix4().extractRotation(now)).setPosition(centre);
    item.onNode.copy(item.node ? item.node.matrixWorld.clone().invert().multiply(turned) : turned);
    item.rest.copy(item.restNode).multiply(item.onNode);
  }

  _reshape({ facts }) {
    const { shape, size } = facts;
    if (shape === 'box') {
      facts.radius = Math.min(size[3], size[0] / 2, size[1] / 2, size[2] / 2);
      const [width, height, depth] = size.map((side) => Math.max(side / 2 - facts.radius, 0));
      facts.core = [width, depth, height, height];
    } else {
      facts.radius = size[0];
      facts.core = [0, 0, (size[1] ?? 0) / 2, (size[1] ?? 0) / 2];
    }
    this._fill(this.items.find((item) => item.facts === facts));
  }

  /** End dragging; where it is now, how it is turned and how large: {place, turn, size}. */
  release() {
    const { item } = this.held, place = new THREE.Vector3(), turn = new THREE.Quaternion();
    item.rest.decompose(place, turn, new THREE.Vector3());
    this.held = null;
    return { place: place.toArray(), turn: turn.toArray(), size: item.facts.size };
  }

  dispose() {
    this.object.traverse((/** @type {THREE.Mesh<any, any>} */ part) => { part.geometry?.dispose(); part.material?.map?.dispose(); part.material?.dispose(); });
    this.object.removeFromParent();
  }
}

function roundSpot() {
  const canvas = Object.assign(document.createElement('canvas'), { width: 32, height: 32 });
  const brush = canvas.getContext('2d');
  brush.fillStyle = '#fff';
  brush.arc(16, 16, 15, 0, 2 * Math.PI);
  brush.fill();
  return new THREE.CanvasTexture(canvas);
}
