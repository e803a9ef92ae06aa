/** Dots along a rounded rectangle: half as wide as `half`, from `-below` to `above`, `radius` around it; `gap` apart. Returns [u, v] pairs. */
export function roundedOutline(half, above, below, radius, gap) {
  const dots = [];
  const corners = [[half, above, 0], [-half, above, 90], [-half, -below, 180], [half, -below, 270]];
  const arc = (radius * Math.PI) / 2, turns = Math.max(1, Math.round(arc / gap));
  corners.forEach(([u, v, from], index) => {
    for (let k = 0; k < turns; k++) {
      const angle = ((from + (90 * k) / turns) * Math.PI) / 180;
      dots.push([u + radius * Math.cos(angle), v + radius * Math.sin(angle)]);
    }
    const [toU, toV, next] = corners[(index + 1) % 4];
    const end = (next * Math.PI) / 180;
    const start = [u + radius * Math.cos(end), v + radius * Math.sin(end)];
    const goal = [toU + radius * Math.cos(end), toV + radius * Math.sin(end)];
    const steps = Math.max(1, Math.round(Math.hypot(goal[0] - start[0], goal[1] - start[1]) / gap));
    for (let k = 0; k < steps; k++) dots.push([start[0] + ((goal[0] - start[0]) * k) / steps, start[1] + ((goal[1] - start[1]) * k) / steps]);
  });
  return dots;
}

/** The dots of a collider's contour rings, flat x y z in its own space: two around it upright, some across. */
export function contourDots({ shape, core: [wide, deep, above, below], radius }, size) {
  if (shape === 'ground') return groundDots(size);
  const dots = [], gap = Math.max((above + below + 4 * radius) / 24, size / 160);
  for (const [u, v] of roundedOutline(wide, above, below, radius, gap)) dots.push(u, v, 0);
  for (const [u, v] of roundedOutline(deep, above, below, radius, gap)) dots.push(0, v, u);
  const lean = Math.SQRT1_2 * radius;
  const across = [[above, radius], [above + lean, lean], [-below - lean, lean]];
  if (above + below > 0) across.push([-below, radius]);
  if (above + below > 2 * radius) across.push([0.5 * (above - below), radius]);
  for (const [height, around] of across) for (const [u, v] of roundedOutline(wide, deep, deep, around, gap)) dots.push(u, height, v);
  return dots;
}

function groundDots(size) {
  const dots = [];
  for (const share of [0.35, 0.7, 1.05]) {
    const count = Math.round(180 * share);
    for (let k = 0; k < count; k++) dots.push(share * size * Math.cos((2 * Math.PI * k) / count), 0, share * size * Math.sin((2 * Math.PI * k) / count));
  }
  return dots;
}

/** Where the handles of a collider are in its own space: those that size it, and those that turn it, `away` from its surface. */
export function handlesOf({ shape, core: [wide, deep, above], radius }, away) {
  if (shape === 'ground') return {};
  const top = above + radius, side = wide + radius, positions = { top: [0, top, 0], side: [side, 0, 0] };
  if (shape === 'box') Object.assign(positions, { front: [0, 0, deep + radius], spin: [side + away, 0, 0] });
  if (shape !== 'ball') positions.tip = [0, top + away, 0];
  return positions;
}

/** A vector from a centre, swung so that it appears at `flat` across the line of sight `look` (a unit vector), on the side where it was. */
export function swung(vector, flat, look) {
  const length = Math.hypot(...vector), across = Math.hypot(...flat);
  if (across >= length) return flat.map((value) => (value * length) / (across || 1));
  const along = vector.reduce((sum, value, k) => sum + value * look[k], 0);
  const depth = Math.sqrt(length * length - across * across) * (along < 0 ? -1 : 1);
  return flat.map((value, k) => value + depth * look[k]);
}

/** A collider's sizes after its handle was dragged to [along its height, along its width, along its depth], from its centre. */
export function resized({ shape, size }, handle, [along, across, deep]) {
  const least = 1e-4, out = [...size];
  if (shape === 'ball') out[0] = Math.max(least, handle === 'top' ? along : across);
  if (shape === 'capsule' && handle === 'top') out[1] = Math.max(0, 2 * (along - size[0]));
  if (shape === 'capsule' && handle === 'side') out[0] = Math.max(least, across);
  if (shape === 'box') {
    const [index, half] = { top: [1, along], side: [0, across], front: [2, deep] }[handle];
    out[index] = Math.max(least, 2 * half);
  }
  return out;
}
