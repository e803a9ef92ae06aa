/** The brush's formula, the same as the core's (quiver/mesh/regions.py), for showing a stroke at once. Touches neither the page nor three.js. */

export const OUT = 255, FULL = 254;

/** How much of a brush works at a share 0..1 of its radius. */
export function falloff(share, kind) {
  if (share > 1) return 0;
  if (kind === 'even') return 1;
  const left = 1 - share;
  return kind === 'sharp' ? left * left : left * left * (3 - 2 * left);
}

/** Vertices at one place are one point; neighbours by edges. positions flat xyz, triangles flat. */
export class Surface {
  constructor(positions, triangles) {
    this.positions = positions;
    const count = positions.length / 3, byPlace = new Map();
    this.placeOf = new Int32Array(count);
    this.firstOf = [];
    this.verticesOf = [];
    for (let v = 0; v < count; v++) {
      const key = `${positions[3 * v]},${positions[3 * v + 1]},${positions[3 * v + 2]}`;
      if (!byPlace.has(key)) { byPlace.set(key, this.firstOf.length); this.firstOf.push(v); this.verticesOf.push([]); }
      this.placeOf[v] = byPlace.get(key);
      this.verticesOf[this.placeOf[v]].push(v);
    }
    this.around = this.firstOf.map(() => new Set());
    for (let t = 0; t < triangles.length; t += 3) {
      const corners = [0, 1, 2].map((k) => this.placeOf[triangles[t + k]]);
      for (const a of corners) for (const b of corners) if (a !== b) this.around[a].add(b);
    }
  }

  distance(place, x, y, z) {
    const v = 3 * this.firstOf[place];
    return Math.hypot(this.positions[v] - x, this.positions[v + 1] - y, this.positions[v + 2] - z);
  }

  /** Power 0..1 by place (a Map) of a dab: only what hangs together with the nearest place inside the ball. */
  dab([x, y, z], radius, kind) {
    let nearest = -1, least = radius;
    for (let place = 0; place < this.firstOf.length; place++) {
      const distance = this.distance(place, x, y, z);
      if (distance < least) { least = distance; nearest = place; }
    }
    const power = new Map();
    if (nearest < 0) return power;
    const waiting = [nearest];
    power.set(nearest, falloff(least / radius, kind));
    while (waiting.length) {
      for (const next of this.around[waiting.pop()]) {
        if (power.has(next)) continue;
        const distance = this.distance(next, x, y, z);
        if (distance >= radius) continue;
        power.set(next, falloff(distance / radius, kind));
        waiting.push(next);
      }
    }
    return power;
  }
}

/** Levels (Uint8Array) after a stroke whose power is given by place. */
export function paint(levels, surface, power, strength, mode, allowed) {
  const out = levels.slice();
  const influence = (v) => (levels[v] === OUT ? 0 : levels[v] / FULL);
  for (let v = 0; v < levels.length; v++) {
    const worked = (power.get(surface.placeOf[v]) ?? 0) * strength;
    if (worked <= 0 || (allowed && !allowed[v])) continue;
    if (mode === 'out') { if (worked >= 0.5) out[v] = OUT; continue; }
    if ((mode === 'subtract' || mode === 'smooth') && levels[v] === OUT) continue;
    const now = influence(v);
    const goal = mode === 'add' ? now + worked : mode === 'subtract' ? now - worked : mode === 'set' ? worked : now + worked * (mean(surface, levels, v) - now);
    out[v] = Math.round(Math.min(1, Math.max(0, goal)) * FULL);
  }
  return out;
}

function mean(surface, levels, v) {
  const at = (place) => Math.max(...surface.verticesOf[place].map((vertex) => (levels[vertex] === OUT ? 0 : levels[vertex] / FULL)));
  const own = surface.placeOf[v];
  let total = at(own);
  for (const place of surface.around[own]) total += at(place);
  return total / (surface.around[own].size + 1);
}
