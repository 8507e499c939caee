// Rows of label, figure, unit, and the column that it is of: what is known of a thing at a time.
async function figuresOf(trial, name, time) {
  const rows = [], scene = trial.scene, poses = trial.poses(time);
  const robot = scene && scene.robots.find((r) => r.name === name);
  const frame = trial.number.get(rootOf(trial, name));
  if (frame !== undefined && poses[frame]) {
    const pose = poses[frame], before = trial.poses(Math.max(trial.begin, time - 0.05))[frame], after = trial.poses(Math.min(trial.end, time + 0.05))[frame];
    const span = Math.min(trial.end, time + 0.05) - Math.max(trial.begin, time - 0.05);
    "xyz".split("").forEach((axis, k) => rows.push([axis, told(Number(pose.p[k].toFixed(4))), "m"]));
    anglesOf(pose.q).forEach((angle, k) => rows.push([["roll", "pitch", "yaw"][k], told(Number(angle.toFixed(2))), "°"]));
    if (span > 0.02) rows.push(["speed", told(norm(minus(after.p, before.p)) / span, 3), "m/s"]);
  }
  const owner = scene && scene.robots.find((r) => name.startsWith(`${r.name}/`));
  const short = owner ? name.slice(owner.name.length + 1) : "";
  const joint = owner && owner.joints.find((j) => j.name === short);
  if (joint) rows.push(["kind", joint.kind, ""], ["axis", joint.axis.map((v) => told(v, 3)).join(" "), ""], ["carries", joint.child, ""]);
  const sensor = owner && owner.sensors.find((s) => s.name === name);
  if (sensor) {
    rows.push(["kind", sensor.kind, ""], ["on", sensor.on, ""], ["every", told(sensor.period * 1e3), "ms"]);
    if (sensor.range !== undefined) rows.push(["range", told(sensor.range), "m"]);
  }
  const states = owner || robot ? `${(owner || robot).name}/joint_states` : "";
  for (const stream of trial.about.streams) {
    const isJoint = stream.name === states && (robot || joint);
    if (stream.name !== name && !isJoint && !(sensor && stream.name.startsWith(`${name}/`))) continue;
    for (const column of stream.columns.slice(0, 60)) {
      if (column.constant !== undefined && !column.unit) continue;
      if (isJoint && joint && column.name.split(".").slice(1).join(".") !== joint.name) continue;
      const found = await trial.column(stream.name, column.name);
      if (found) rows.push([column.name, inWords(valueAt(found, time)), column.unit, [stream.name, column.name]]);
    }
  }
  return rows;
}
