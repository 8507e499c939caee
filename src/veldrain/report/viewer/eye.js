// The eye that looks at the scene, and what is drawn over it.
const INKS = ["#0072b2", "#d55e00", "#009e73", "#b0569a", "#7a6a00", "#3f8fc4"]; // told apart by all eyes
const AXES = ["#c8323c", "#2c8a3c", "#2b5fb8"];

function colourOf(text, alpha = 1) {
  const n = parseInt(text.slice(1), 16);
  return [(n >> 16 & 255) / 255, (n >> 8 & 255) / 255, (n & 255) / 255, alpha];
}

class Eye {
  constructor() {
    this.target = [0, 0, 0];
    this.yaw = -2.2;
    this.pitch = 0.8;
    this.distance = 6;
    this.follow = "";
    this.through = "";
  }

  forward() {
    const c = Math.cos(this.pitch);
    return [-c * Math.cos(this.yaw), -c * Math.sin(this.yaw), -Math.sin(this.pitch)];
  }

  // Where it is and what it takes points to, for one trial and a shape of the picture.
  seen(trial, poses, aspect) {
    const camera = this.through && trial.cameras.get(this.through);
    if (camera) {
      const base = poses[trial.number.get(this.through)];
      if (base) {
        const forward = turned(base.q, [1, 0, 0]), up = turned(base.q, [0, 0, 1]);
        const angle = 2 * Math.atan(camera[2] / 2 / camera[0]);
        const view = multiplied(perspective(angle, aspect, 0.02, 2000), lookingFrom(base.p, forward, up));
        return { at: base.p, view, distance: 3 };
      }
    }
    const frame = this.follow ? trial.number.get(trial.rootOf(this.follow)) : undefined;
    const middle = frame === undefined ? this.target : plus(this.target, poses[frame].p);
    const at = minus(middle, times(this.forward(), this.distance));
    const near = Math.max(0.004, this.distance / 300);
    const angle = aspect < 1 ? 2 * Math.atan(Math.tan(0.35) / aspect) : 0.7;
    const view = multiplied(perspective(angle, aspect, near, near * 60000), lookingFrom(at, this.forward(), [0, 0, 1]));
    return { at, view, distance: this.distance };
  }

  turn(dx, dy) {
    this.yaw -= dx * 0.008;
    this.pitch = Math.min(1.565, Math.max(-1.4, this.pitch + dy * 0.008));
  }

  shift(dx, dy, height) {
    const side = unit(cross(this.forward(), [0, 0, 1])), up = cross(side, this.forward());
    const size = (this.distance * 0.73) / height;
    this.target = plus(this.target, plus(times(side, -dx * size), times(up, dy * size)));
  }

  near(factor) {
    this.distance = Math.min(5e4, Math.max(0.02, this.distance * factor));
  }

  text() {
    return [this.yaw, this.pitch, this.distance, ...this.target].map((v) => Number(v.toFixed(3))).join(",");
  }

  take(text) {
    const row = text.split(",").map(Number);
    if (row.length === 6 && row.every(Number.isFinite)) {
      [this.yaw, this.pitch, this.distance] = row;
      this.target = row.slice(3);
    }
  }
}

// Rows of lines and points that grow.
class Ink {
  constructor() {
    this.rows = [];
  }

  line(a, b, colour) {
    this.rows.push(a[0], a[1], a[2], ...colour, b[0], b[1], b[2], ...colour);
  }

  point(a, colour) {
    this.rows.push(a[0], a[1], a[2], ...colour);
  }

  arrow(a, b, colour) {
    this.line(a, b, colour);
    const way = minus(b, a), size = norm(way);
    if (size < 1e-9) return;
    const side = unit(Math.abs(way[2]) < 0.9 * size ? cross(way, [0, 0, 1]) : cross(way, [1, 0, 0]));
    for (const s of [-1, 1]) this.line(b, plus(minus(b, times(way, 0.22)), times(side, 0.1 * s * size)), colour);
  }
}

const LAYERS = {
  shapes: ["Shapes", true], collision: ["Collision shapes", false], patches: ["Patches of ground", true],
  clouds: ["Scans and clouds", true], beams: ["Beams", false], fields: ["Fields of view", false],
  contacts: ["Contact forces", true], trails: ["Trails", true], through: ["See through what hides a robot", false], joints: ["Joint axes", false],
  frames: ["Frames", false], names: ["Names", true],
};
const SHELL = [0.91, 0.47, 0.13, 0.4];
const MOST_BEAMS = 240;

// The lines, points and names of the layers that are on.
function layersOf(trial, poses, time, layers, size, picked) {
  const lines = new Ink(), over = new Ink(), points = new Ink(), names = [], scene = trial.scene;
  const frameOf = (name) => poses[trial.number.get(name)];
  if (layers.frames || picked) {
    const some = layers.frames ? trial.frames.names : [picked];
    for (const name of some) {
      const pose = frameOf(name);
      if (!pose) continue;
      AXES.forEach((ink, k) => over.arrow(pose.p, plus(pose.p, turned(pose.q, times([[1, 0, 0], [0, 1, 0], [0, 0, 1]][k], size))), colourOf(ink)));
      if (layers.frames && trial.frames.names.length < 60) names.push([pose.p, name.split("/").slice(1).join("/") || name, "small"]);
    }
  }
  if (scene) {
    for (const robot of scene.robots) {
      const root = frameOf(robot.links[0]);
      if (layers.names && root) names.push([plus(root.p, [0, 0, trial.sizes.get(robot.name) || 0.3]), robot.name, "bold"]);
      if (layers.joints) {
        for (const joint of robot.joints) {
          const base = frameOf(joint.frame);
          if (!base || joint.kind === "fixed") continue;
          const pose = placed(base, poseOf(joint.at)), axis = turned(pose.q, joint.axis);
          over.arrow(minus(pose.p, times(axis, 0.5 * size)), plus(pose.p, times(axis, size)), colourOf(joint.kind === "prismatic" ? "#127a86" : "#8a2f86"));
          if (robot.joints.length < 30) names.push([plus(pose.p, times(axis, size)), joint.name, "small"]);
        }
      }
      if (layers.fields) {
        robot.sensors.forEach((sensor, k) => {
          const on = frameOf(sensor.name) || frameOf(sensor.on);
          if (!sensor.outline || !on) return;
          const pose = frameOf(sensor.name) ? on : placed(on, poseOf(sensor.at));
          const far = Math.min(sensor.range, 8 * size), ink = colourOf(INKS[k % INKS.length], 0.8);
          for (const way of sensor.outline) {
            const ends = way.map((v) => plus(pose.p, turned(pose.q, times(v, far))));
            for (let i = 1; i < ends.length; i++) lines.line(ends[i - 1], ends[i], ink);
            const every = Math.max(1, Math.floor((ends.length - 1) / 4));
            for (let i = 0; i < ends.length; i += every) lines.line(pose.p, ends[i], ink);
          }
        });
      }
    }
    if (layers.names) {
      for (const body of scene.bodies) {
        const pose = frameOf(body);
        if (pose) names.push([plus(pose.p, [0, 0, trial.sizes.get(body) || 0.2]), body, ""]);
      }
    }
    if (layers.patches && scene.ground !== null) {
      for (const patch of scene.patches) {
        const pose = poseOf(patch.at), [a, b] = [patch.size[0] / 2, patch.size[1] / 2];
        const corners = [[-a, -b], [a, -b], [a, b], [-a, b]].map(([x, y]) => {
          const p = plus(pose.p, turned(pose.q, [x, y, 0]));
          return [p[0], p[1], scene.ground + 0.002];
        });
        corners.forEach((p, k) => lines.line(p, corners[(k + 1) % 4], colourOf("#8a5a00", 0.9)));
        if (layers.names) names.push([corners[2], patch.name, "small"]);
      }
    }
  }
  for (const [k, cloud] of trial.clouds.entries()) {
    if (!layers.clouds && !layers.beams) break;
    const at = placeBefore(cloud.times, time + 1e-6), base = poses[cloud.frame];
    if (at < 0 || !base) continue;
    const ink = colourOf(INKS[(k + 1) % INKS.length]), faint = [...ink.slice(0, 3), 0.14];
    const count = cloud.first[at + 1] - cloud.first[at], every = Math.max(1, Math.ceil(count / MOST_BEAMS));
    for (let i = cloud.first[at]; i < cloud.first[at + 1]; i++) {
      const own = [cloud.points[3 * i] * cloud.unit, cloud.points[3 * i + 1] * cloud.unit, cloud.points[3 * i + 2] * cloud.unit];
      const p = plus(base.p, turned(base.q, own));
      if (layers.clouds) points.point(p, ink);
      if (layers.beams && (i - cloud.first[at]) % every === 0) lines.line(base.p, p, faint);
    }
  }
  if (layers.contacts && trial.contacts) {
    const { times: stamps, touched, first, rows } = trial.contacts, now = placeBefore(stamps, time + 1e-6);
    const k = now < 0 ? -1 : placeBefore(touched, stamps[now] + 1e-6);
    if (k >= 0 && touched[k] >= stamps[now] - 1e-6) {
      let most = 1e-9;
      for (let i = first[k]; i < first[k + 1]; i++) most = Math.max(most, norm(rows.slice(6 * i + 3, 6 * i + 6)));
      for (let i = first[k]; i < first[k + 1]; i++) {
        const p = Array.from(rows.slice(6 * i, 6 * i + 3)), f = Array.from(rows.slice(6 * i + 3, 6 * i + 6));
        const up = f[2] < 0 ? -1 : 1; // of the two sides' forces the one that points up
        over.arrow(p, plus(p, times(f, 2.2 * up * size / most)), colourOf("#c8323c"));
      }
    }
  }
  if (layers.trails) {
    for (const name of trial.trailed) {
      const path = trial.paths.get(trial.number.get(name));
      if (!path) { if (path === undefined) trial.path(trial.number.get(name)); continue; }
      const ink = colourOf(trial.ink, 0.9);
      for (let i = 1; i < path.length && path[i][0] <= time + 1e-6; i++) lines.line(path[i - 1][1], path[i][1], ink);
    }
  }
  return { lines, over, points, names };
}
