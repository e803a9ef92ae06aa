/** Which joint is under the pointer, in pixels. Touches neither the page nor three.js. */

/** Distance from point (x, y) to the segment (ax, ay)-(bx, by). */
export function segmentDistance(x, y, ax, ay, bx, by) {
  const dx = bx - ax, dy = by - ay;
  const squared = dx * dx + dy * dy;
  const along = squared > 0 ? Math.min(1, Math.max(0, ((x - ax) * dx + (y - ay) * dy) / squared)) : 0;
  return Math.hypot(x - ax - along * dx, y - ay - along * dy);
}

/** How far apart two joints may be drawn to count as on one spot [pixels]. */
const ONE_SPOT = 2;

/**
 * The nearest joint within reach, or -1; of joints on one spot the one after ``after``. points holds x, y, depth per joint (depth outside -1..1 is behind the camera);
 * links are [joint, child] pairs; a joint's own place wins over its stroke.
 */
export function pickJoint(x, y, points, links, joints, reach = 13, after = -1) {
  let best = -1, least = reach;
  const isSeen = (joint) => points[3 * joint + 2] > -1 && points[3 * joint + 2] < 1;
  for (const joint of joints) {
    const distance = Math.hypot(x - points[3 * joint], y - points[3 * joint + 1]);
    if (isSeen(joint) && distance < least) { least = distance; best = joint; }
  }
  if (best >= 0) {
    const there = joints.filter((joint) => isSeen(joint) && Math.hypot(points[3 * best] - points[3 * joint], points[3 * best + 1] - points[3 * joint + 1]) < ONE_SPOT);
    return there.includes(after) ? there[(there.indexOf(after) + 1) % there.length] : there[0];
  }
  least = reach / 2;
  for (const [joint, child] of links) {
    if (!isSeen(joint) || !isSeen(child)) continue;
    const distance = segmentDistance(x, y, points[3 * joint], points[3 * joint + 1], points[3 * child], points[3 * child + 1]);
    if (distance < least) { least = distance; best = joint; }
  }
  return best;
}
