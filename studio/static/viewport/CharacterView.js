import * as THREE from '../vendor/three/three.module.js';
import { GLTFLoader } from '../vendor/three/jsm/loaders/GLTFLoader.js';
import { Influence } from './Influence.js';
import { SoftNormals } from './SoftNormals.js';

/** Frames of a clip that are looked at to know how far it goes. */
const LOOKS = 12;

/** A character on the stage: its nodes by number, skinned on the GPU, and a ghost of the keyed clip. */
export class CharacterView {
  /** Load a GLB or glTF file given as an ArrayBuffer. */
  static async load(buffer) {
    const gltf = await new GLTFLoader().parseAsync(buffer, '');
    const nodes = await Promise.all(gltf.parser.json.nodes.map((_, index) => gltf.parser.getDependency('node', index)));
    return new CharacterView(gltf, nodes);
  }

  constructor(gltf, nodes) {
    this.scene = gltf.scene;
    this.nodes = nodes;
    this.names = gltf.parser.json.nodes.map((node, index) => node.name ?? `node ${index}`);
    this.influence = new Influence();
    this.meshes = [];
    this.rest = nodes.map((node) => ({ position: node.position.clone(), quaternion: node.quaternion.clone(), scale: node.scale.clone() }));
    const isJoint = new Set((gltf.parser.json.skins ?? []).flatMap((skin) => skin.joints));
    this.joints = isJoint.size ? [...isJoint] : nodes.map((_, index) => index);
    this.links = this._findLinks();
    this.scene.traverse((object) => this._prepare(object));
    this.parts = this._findParts(gltf.parser);
    this.scene.updateMatrixWorld(true);
    this.ghost = null;
    /** A joint that is turned by hand, {node, turn}: a turn in the world on top of its pose. */
    this.bent = null;
  }

  /** The skin's meshes in the order in which the core counts them: by node, then by primitive of triangles. */
  _findParts(parser) {
    const parts = [];
    for (const mesh of this.meshes) {
      const { primitives = 0, meshes } = parser.associations.get(mesh) ?? {};
      const node = this.nodes.findIndex((each) => each === mesh || each === mesh.parent && !each.isMesh);
      if (meshes !== undefined) parts.push({ mesh, node, primitives });
    }
    return parts.sort((a, b) => a.node - b.node || a.primitives - b.primitives).map(({ mesh }) => mesh);
  }

  _prepare(object) {
    if (!object.isMesh) return;
    object.frustumCulled = false;
    object.castShadow = object.receiveShadow = true;
    object.material = object.material.clone();
    this.influence.add(object);
    this.meshes.push(object);
  }

  /** [joint, child joint] pairs; plain nodes between two joints are passed over. */
  _findLinks() {
    const number = new Map(this.nodes.map((node, index) => [node, index]));
    const isJoint = new Set(this.joints);
    const links = [];
    for (const joint of this.joints) {
      let above = this.nodes[joint].parent;
      while (above && !(number.has(above) && isJoint.has(number.get(above)))) above = above.parent;
      if (above) links.push([number.get(above), joint]);
    }
    return links;
  }

  /** Pose it: the clip's frames, then the take's where they are wanted and there. */
  pose(frame, clip, take) {
    this._poseNodes(this.nodes, frame, clip, take);
    if (this.bent) this._bend(this.nodes[this.bent.node], this.bent.turn);
    this.scene.updateMatrixWorld(true);
    const isMoved = Boolean(take?.loaded && take.header.moved.length);
    if (isMoved) this._soften(frame, take);
    else if (this._softened) this._forgetOffsets();
  }

  _bend(node, turn) {
    const above = node.parent.getWorldQuaternion(new THREE.Quaternion());
    node.quaternion.premultiply(above.clone().invert().multiply(turn).multiply(above));
  }

  /** [joint, weight] pairs of a vertex, the strongest first. */
  weightsOf(part, vertex) {
    const { skinIndex, skinWeight } = part.geometry.attributes;
    if (!part.isSkinnedMesh) return [];
    const found = [0, 1, 2, 3].map((k) => [this.nodes.indexOf(part.skeleton.bones[skinIndex.getComponent(vertex, k)]), skinWeight.getComponent(vertex, k)]);
    return found.filter(([, weight]) => weight > 0.004).sort((a, b) => b[1] - a[1]);
  }

  /** The part that a take moves, if it is there yet: one made by hand has a name, for its number changes. */
  partOf({ mesh, name }) { return name ? this.made?.find((part) => part.userData.made === name) : this.parts[mesh]; }

  _soften(frame, take) {
    if (this._softened !== take) {
      this._forgetOffsets();
      // What came without normals is drawn flat, by its triangles as they are.
      const moved = take.header.moved.filter((each) => this.partOf(each)?.geometry.attributes.normal);
      this._normals = moved.map((each) => new SoftNormals(this.partOf(each), each.vertices));
      this._softened = take;
    }
    take.applyOffsets(frame, (each) => this.partOf(each));
    for (const normals of this._normals) normals.update();
  }

  _forgetOffsets() {
    for (const { geometry } of this.parts) { geometry.attributes.moved.array.fill(0); geometry.attributes.moved.needsUpdate = true; }
    for (const normals of this._normals ?? []) normals.restore();
    this._softened = this._normals = null;
  }

  /** Places of a part's vertices in the world as they stand now, flat xyz, with a take's offsets. */
  posed(part) {
    const { position, moved } = part.geometry.attributes;
    const out = new Float32Array(3 * position.count), point = new THREE.Vector3();
    for (let v = 0; v < position.count; v++) {
      part.getVertexPosition(v, point).applyMatrix4(part.matrixWorld);
      out[3 * v] = point.x + moved.array[3 * v]; out[3 * v + 1] = point.y + moved.array[3 * v + 1]; out[3 * v + 2] = point.z + moved.array[3 * v + 2];
    }
    return out;
  }

  /** Where one vertex of a part is in the world now, with a take's offsets. */
  placeOf(part, vertex) {
    const { moved } = part.geometry.attributes, point = new THREE.Vector3();
    return part.getVertexPosition(vertex, point).applyMatrix4(part.matrixWorld).add(new THREE.Vector3().fromArray(moved.array, 3 * vertex));
  }

  /** Pose the ghost as keyed, or as a take has it. */
  poseGhost(frame, clip, take) {
    if (this.ghost?.object.visible) this.ghost.view.pose(frame, clip, take);
  }

  _poseNodes(nodes, frame, clip, take) {
    for (let i = 0; i < nodes.length; i++) {
      nodes[i].position.copy(this.rest[i].position);
      nodes[i].quaternion.copy(this.rest[i].quaternion);
      nodes[i].scale.copy(this.rest[i].scale);
    }
    if (clip?.loaded) clip.apply(frame, nodes);
    if (take?.loaded) take.apply(frame, nodes);
  }

  /** Show or hide a see-through copy in the colour of what is keyed. */
  async showGhost(isShown, buffer) {
    if (isShown && !this.ghost) {
      const copy = await CharacterView.load(buffer);
      const material = new THREE.MeshLambertMaterial({ color: 0x3f6c8c, transparent: true, opacity: 0.42, depthWrite: false, polygonOffset: true, polygonOffsetFactor: 1, polygonOffsetUnits: 8 });
      for (const mesh of copy.meshes) { mesh.material = material; mesh.castShadow = mesh.receiveShadow = false; mesh.renderOrder = 2; }
      this.ghost = { object: copy.scene, view: copy };
      this.scene.parent.add(copy.scene);
    }
    if (this.ghost) this.ghost.object.visible = isShown;
  }

  setLook(look, isOn) {
    for (const material of this.meshes.map((mesh) => mesh.material)) {
      if (look === 'wire') material.wireframe = isOn;
      material.needsUpdate = true;
    }
    if (look === 'xray') this._thin({ xray: isOn });
  }

  /** Thin the skin to a veil, so that what is inside is seen. */
  setGlassy(isOn) { this._thin({ glassy: isOn }); }

  /** Meshes that are not in the file, such as muscles made by hand: {mesh number, node, positions, triangles}; those of before go. */
  setMade(made) {
    this._forgetOffsets();
    for (const old of this.made ?? []) {
      old.removeFromParent();
      this.influence.remove(old);
      this.meshes.splice(this.meshes.indexOf(old), 1);
      this.parts.splice(this.parts.indexOf(old), 1);
      old.geometry.dispose();
    }
    this.made = made.map(({ name, mesh, node, positions, triangles }) => {
      const geometry = new THREE.BufferGeometry().setAttribute('position', new THREE.BufferAttribute(new Float32Array(positions), 3)).setIndex(triangles);
      geometry.computeVertexNormals();
      const part = new THREE.Mesh(geometry, new THREE.MeshStandardMaterial({ color: 0xb5624c, roughness: 0.6 }));
      part.userData.made = name;
      this._prepare(part);
      this.nodes[node].add(part);
      this.parts[mesh] = part;
      return part;
    });
  }

  /** Thin the skin, but for some parts (by number), which are seen only while it is thinned; null shows all alike again. */
  setOpened(isOpen, inner) {
    this.inner = new Set([...(inner ?? [])].map((number) => this.parts[number]).filter(Boolean));
    this.isOpened = isOpen;
    this._thin({ opened: isOpen });
  }

  /** Whether a part is under the skin and the skin is not thinned. */
  isUnder(part) { return Boolean(this.inner?.has(part)) && !this.isOpened; }

  /** What thins the skin most counts; what is under it is not thinned. */
  _thin(change) {
    this.thinned = { ...this.thinned, ...change };
    const thin = this.thinned.glassy ? 0.16 : this.thinned.opened ? 0.24 : this.thinned.xray ? 0.46 : null;
    for (const mesh of this.meshes) {
      const { material } = mesh, opacity = this.thinned.opened && this.inner?.has(mesh) ? null : thin;
      material.userData.solid ??= { transparent: material.transparent, opacity: material.opacity, depthWrite: material.depthWrite };
      Object.assign(material, opacity ? { transparent: true, opacity, depthWrite: false } : material.userData.solid);
      material.needsUpdate = true;
    }
  }

  /** The box around the skin over a whole clip: around its joints at some frames, as much wider as the skin is at rest. */
  box(clip) {
    this.pose(0, null, null);
    const skin = this._skinBox(), joints = this._jointBox();
    if (skin.isEmpty()) return joints;
    const below = skin.min.clone().sub(joints.min), above = skin.max.clone().sub(joints.max);
    const whole = skin.clone();
    for (let k = 0; clip?.loaded && k < LOOKS; k++) {
      this.pose(clip.first + (k * (clip.loaded - 1)) / (LOOKS - 1), clip, null);
      const box = this._jointBox();
      whole.union(new THREE.Box3(box.min.add(below), box.max.add(above)));
    }
    whole.min.y = skin.min.y;
    return whole;
  }

  _jointBox() {
    const positions = this.positions(), box = new THREE.Box3();
    for (const joint of this.joints) box.expandByPoint(new THREE.Vector3().fromArray(positions, 3 * joint));
    return box;
  }

  _skinBox() {
    const box = new THREE.Box3();
    for (const mesh of this.meshes) {
      if (mesh.isSkinnedMesh) mesh.computeBoundingBox();
      box.union((mesh.boundingBox ?? new THREE.Box3().setFromObject(mesh)).clone().applyMatrix4(mesh.isSkinnedMesh ? mesh.matrixWorld : new THREE.Matrix4()));
    }
    return box;
  }

  /** World positions of all nodes as x y z in a flat array. */
  positions() {
    const positions = new Float32Array(this.nodes.length * 3);
    for (let i = 0; i < this.nodes.length; i++) positions.set(this.nodes[i].matrixWorld.elements.slice(12, 15), 3 * i);
    return positions;
  }
}
