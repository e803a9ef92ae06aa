import * as THREE from '../vendor/three/three.module.js';
import { MeshBVH } from '../vendor/three-mesh-bvh/index.module.js';

/** The skin as it stands, to be found under the pointer: one tree for each part, made once and fitted again where the pose is another. */
export class PickTrees {
  /** @param {import('./CharacterView.js').CharacterView} view */
  constructor(view) {
    this.view = view;
    /** @type {Map<THREE.Mesh, { bvh: MeshBVH, key: string }>} */
    this._trees = new Map();
  }

  /** The tree of a part in the pose that ``key`` stands for. Its geometry holds the positions in the world.
   * @param {THREE.Mesh} part @param {string} key */
  of(part, key) {
    const known = this._trees.get(part);
    if (known?.key === key) return known.bvh;
    const positions = this.view.posed(part);
    if (known) {
      known.bvh.geometry.attributes.position.array.set(positions);
      known.bvh.refit();
      known.key = key;
      return known.bvh;
    }
    const geometry = new THREE.BufferGeometry();
    geometry.setAttribute('position', new THREE.BufferAttribute(positions, 3));
    geometry.setIndex(part.geometry.index ? new THREE.BufferAttribute(part.geometry.index.array.slice(), 1) : null);
    const bvh = new MeshBVH(geometry);
    this._trees.set(part, { bvh, key });
    return bvh;
  }
}
