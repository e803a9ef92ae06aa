/** Quaternions in flat arrays, x y z w. Touches neither the page nor three.js. */

/** From a[i] to b[j] by share, along the shorter way, into out[k]: normalised linear mixing, right to 0.1° for the small turns between two frames. */
export function mix(a, i, b, j, share, out, k) {
  const dot = a[i] * b[j] + a[i + 1] * b[j + 1] + a[i + 2] * b[j + 2] + a[i + 3] * b[j + 3];
  const keep = 1 - share, take = dot < 0 ? -share : share;
  const x = keep * a[i] + take * b[j], y = keep * a[i + 1] + take * b[j + 1];
  const z = keep * a[i + 2] + take * b[j + 2], w = keep * a[i + 3] + take * b[j + 3];
  const length = Math.hypot(x, y, z, w) || 1;
  out[k] = x / length; out[k + 1] = y / length; out[k + 2] = z / length; out[k + 3] = w / length;
}
