// The list of all that there is, by name: robots with links, joints, sensors; bodies, obstacles, moments, streams with columns.
function treeOf(page) {
  const wanted = $("search").value.trim().toLowerCase();
  const fits = (text) => text.toLowerCase().includes(wanted);
  const first = page.trials[0], scene = first.scene, roots = [];
  const leaf = (name, title = name.split("/").slice(1).join("/") || name) => ({ title, name, pick: () => page.pick(name) });
  if (scene) {
    for (const robot of scene.robots) {
      roots.push({ title: robot.name, name: robot.name, pick: () => page.pick(robot.name), inside: [
        { title: "links", inside: robot.links.map((n) => leaf(n)) },
        { title: "joints", inside: robot.joints.map((j) => leaf(`${robot.name}/${j.name}`)) },
        { title: "sensors", inside: robot.sensors.map((s) => leaf(s.name)) },
      ].filter((group) => group.inside.length) });
    }
    for (const [title, names] of [["bodies", scene.bodies], ["obstacles", scene.obstacles]]) {
      if (names.length) roots.push({ title, inside: names.map((n) => leaf(n, n)) });
    }
  } else if (first.frames.names.length) roots.push({ title: "frames", inside: first.frames.names.map((n) => leaf(n, n)) });
  const marks = page.trials.flatMap((t) => t.about.marks.map((mark) => ({ ...mark, trial: t })));
  if (marks.length) {
    roots.push({ title: "moments", isOpen: true, inside: marks.map((mark) => ({
      title: `${mark.time.toFixed(2)} s ${mark.text}${page.trials.length > 1 ? ` (${mark.trial.name})` : ""}`, name: mark.text, pick: () => page.go(mark.time),
    })) });
  }
  const streams = new Map();
  for (const trial of page.trials) for (const stream of trial.about.streams) if (!streams.has(stream.name)) streams.set(stream.name, stream);
  if (streams.size) {
    roots.push({ title: "streams", inside: [...streams.values()].map((stream) => ({
      title: stream.name, name: stream.name, pick: () => page.pick(stream.name),
      inside: stream.columns.map((c) => ({ title: c.unit ? `${c.name} (${c.unit})` : c.name, name: `${stream.name} ${c.name}`, path: [stream.name, c.name], pick: () => page.plot([stream.name, c.name]) })),
    })) });
  }
  const shown = (node) => {
    const inside = (node.inside || []).map(shown).filter(Boolean);
    if (wanted && !inside.length && !(node.name && fits(node.name)) && !fits(node.title)) return null;
    const list = made("ul", {}), row = made("div", { class: "row" });
    const isOpen = wanted ? inside.length > 0 : node.isOpen || page.opened.has(node.title);
    const below = wanted && (fits(node.title)) ? (node.inside || []).map((n) => shown(n) || plain(n)) : inside;
    const fold = made("button", { class: "fold", "aria-label": `show what is in ${node.title}`, "aria-expanded": String(isOpen) }, node.inside && node.inside.length ? (isOpen ? "▾" : "▸") : "");
    const fill = (open) => { list.replaceChildren(...(open ? below.filter(Boolean) : [])); fold.textContent = node.inside && node.inside.length ? (open ? "▾" : "▸") : ""; fold.setAttribute("aria-expanded", String(open)); };
    const toggle = () => {
      const open = !list.childElementCount;
      if (open) page.opened.add(node.title); else page.opened.delete(node.title);
      fill(open);
    };
    fold.onclick = toggle;
    const name = plainName(node, toggle, page);
    row.append(fold, name);
    fill(isOpen && !(wanted && !inside.length));
    return made("li", {}, row, list);
  };
  const plain = (node) => made("li", {}, made("div", { class: "row" }, made("span", { class: "fold" }), plainName(node, () => {}, page)));
  page.opened ||= new Set(page.trials.length === 1 && scene && scene.robots.length === 1 ? [scene.robots[0].name] : []);
  const rows = roots.map(shown).filter(Boolean);
  $("tree").replaceChildren(rows.length ? made("ul", {}, ...rows) : made("p", { class: "quiet" }, wanted ? "No such name." : "Nothing has a name here."));
}

function plainName(node, toggle, page) {
  const name = made("button", { class: `name${node.path ? " column" : ""}`, title: node.path ? "plot it, or drag it below the time" : "" }, node.title);
  if (node.name) { name.dataset.name = node.name; name.setAttribute("aria-current", String(node.name === page.picked)); }
  name.onclick = () => (node.pick ? node.pick() : toggle());
  if (node.path) {
    name.draggable = true;
    name.addEventListener("dragstart", (event) => event.dataTransfer.setData("text/plain", node.path.join("\n")));
  }
  return name;
}
