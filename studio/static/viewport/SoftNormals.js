/**
 * Normals of one part's moved vertices. Offsets are given in the world; they are carried back into the space that the mesh is
 * bound in, where the triangles' normals with and without them are compared. Skinning on the GPU then turns the result along.
 */
export class SoftNormals {
  constructor(part, vertices) {
    this.part = part;
    const { position, normal } = part.geometry.attributes, index = part.geometry.index?.array;
    this.original = normal.array.slice();
    this._findPlaces(position.array, vertices);
    const isMoved = new Uint8Array(position.count);
    for (const v of vertices) isMoved[v] = 1;
    const corners = [];
    for (let t = 0; t < (index?.length ?? position.count); t += 3) {
      const triangle = [0, 1, 2].map((k) => (index ? index[t + k] : t + k));
      if (triangle.some((v) => this.placeOf[v] >= 0)) corners.push(...triangle);
    }
    this.triangles = Uint32Array.from(corners);
    this.vertices = vertices;
    this.moved = position.array.slice();
    this.rest = this._placeNormals(position.array);
  }

  /** Vertices at one place share a normal, or seams would show. */
  _findPlaces(positions, vertices) {
    this.placeOf = new Int32Array(positions.length / 3).fill(-1);
    const numbers = new Map();
    const keyOf = (v) => `${positions[3 * v]},${positions[3 * v + 1]},${positions[3 * v + 2]}`;
    for (const v of vertices) {
      const key = keyOf(v);
      if (!numbers.has(key)) numbers.set(key, numbers.size);
      this.placeOf[v] = numbers.get(key);
    }
    this.count = numbers.size;
  }

  /** Unit normals of the positions, from the triangles around them in these positions. */
  _placeNormals(p) {
    const sums = new Float32Array(3 * this.count), { triangles, placeOf } = this;
    for (let t = 0; t < triangles.length; t += 3) {
      const a = 3 * triangles[t], b = 3 * triangles[t + 1], c = 3 * triangles[t + 2];
      const ux = p[b] - p[a], uy = p[b + 1] - p[a + 1], uz = p[b + 2] - p[a + 2];
      const vx = p[c] - p[a], vy = p[c + 1] - p[a + 1], vz = p[c + 2] - p[a + 2];
      const x = uy * vz - uz * vy, y = uz * vx - ux * vz, z = ux * vy - uy * vx;
      for (let k = 0; k < 3; k++) {
        const place = 3 * placeOf[triangles[t + k]];
        if (place >= 0) { sums[place] += x; sums[place + 1] += y; sums[place + 2] += z; }
      }
    }
    for (let i = 0; i < sums.length; i += 3) {
      const length = Math.hypot(sums[i], sums[i + 1], sums[i + 2]) || 1;
      sums[i] /= length; sums[i + 1] /= length; sums[i + 2] /= length;
    }
    return sums;
  }

  /** Turn the normals for the offsets that the part's `moved` attribute holds now. */
  update() {
    const { part, moved } = this, { position, normal, moved: offsets } = part.geometry.attributes;
    const matrices = this._matrices();
    for (const v of this.vertices) {
      const i = 3 * v;
      back(matrices(v), offsets.array[i], offsets.array[i + 1], offsets.array[i + 2], moved, i);
      for (let k = 0; k < 3; k++) moved[i + k] += position.array[i + k];
    }
    const now = this._placeNormals(moved);
    for (const v of this.vertices) {
      const i = 3 * v, j = 3 * this.placeOf[v];
      const x = this.original[i] + now[j] - this.rest[j], y = this.original[i + 1] + now[j + 1] - this.rest[j + 1], z = this.original[i + 2] + now[j + 2] - this.rest[j + 2];
      const length = Math.hypot(x, y, z) || 1;
      normal.array[i] = x / length; normal.array[i + 1] = y / length; normal.array[i + 2] = z / length;
    }
    normal.needsUpdate = true;
  }

  restore() {
    this.part.geometry.attributes.normal.array.set(this.original);
    this.part.geometry.attributes.normal.needsUpdate = true;
  }

  /** How the space around a vertex is turned and stretched by the joints: three columns of three. */
  _matrices() {
    const { part } = this, out = new Float64Array(9);
    if (!part.isSkinnedMesh) {
      const e = part.matrixWorld.elements;
      out.set([e[0], e[1], e[2], e[4], e[5], e[6], e[8], e[9], e[10]]);
      return () => out;
    }
    part.skeleton.update();
    const bones = part.skeleton.boneMatrices, { skinIndex, skinWeight } = part.geometry.attributes;
    return (v) => {
      out.fill(0);
      for (let k = 0; k < 4; k++) {
        const weight = skinWeight.getComponent(v, k), at = 16 * skinIndex.getComponent(v, k);
        if (weight === 0) continue;
        for (let c = 0; c < 3; c++) for (let r = 0; r < 3; r++) out[3 * c + r] += weight * bones[at + 4 * c + r];
      }
      return out;
    };
  }
}

/** Carry a vector back through a matrix of three columns, into target[i..i+2]; a matrix without an inverse gives nothing. */
function back(m, x, y, z, target, i) {
  const c0 = m[4] * m[8] - m[5] * m[7], c1 = m[5] * m[6] - m[3] * m[8], c2 = m[3] * m[7] - m[4] * m[6];
  const det = m[0] * c0 + m[1] * c1 + m[2] * c2;
  const scale = Math.abs(det) > 1e-12 ? 1 / det : 0;
  target[i] = scale * (x * c0 + y * c1 + z * c2);
  target[i + 1] = scale * (x * (m[2] * m[7] - m[1] * m[8]) + y * (m[0] * m[8] - m[2] * m[6]) + z * (m[1] * m[6] - m[0] * m[7]));
  target[i + 2] = scale * (x * (m[1] * m[5] - m[2] * m[4]) + y * (m[2] * m[3] - m[0] * m[5]) + z * (m[0] * m[4] - m[1] * m[3]));
}
