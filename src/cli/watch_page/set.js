/* Goes through the set: groups of pictures, those first that need a look; the plane; one picture
 * with its neighbours. */
"use strict";

const SHOWN = 240; // pictures of a group at once
const set = { list: null, groups: [], group: "", order: [], picked: -1 };
const isSet = () => document.body.dataset.view === "set";
const ofSet = (number) => set.list.pictures[number];
const still = (number) => `still?number=${number}&round=${set.list.round}`;
const percentOf = (p) => `${Math.round(100 * p)} %`;

// ---- groups ----

// Pictures of a class: wrong answers first, the surest of them before the others; then the right
// ones, the least sure first.
function needsLook(a, b) {
  const wrong = [a.answer !== a.label, b.answer !== b.label];
  if (wrong[0] !== wrong[1]) return wrong[0] ? -1 : 1;
  return wrong[0] ? b.sure - a.sure : a.own - b.own;
}

function makeGroups() {
  const there = set.list.pictures.filter((p) => p.label !== -2);
  const groups = [];
  state.about.labels.forEach((label, i) => {
    const pictures = there.filter((p) => p.label === i).sort(needsLook);
    const wrong = pictures.filter((p) => p.answer !== i).length;
    groups.push({ key: label, name: label, wrong, pictures, colour: i });
  });
  state.about.labels.forEach((label, i) => {
    const pictures = there.filter((p) => p.label === -1 && p.answer === i).sort((a, b) => b.sure - a.sure);
    if (pictures.length) groups.push({ key: `?${label}`, name: `${label}?`, wrong: 0, pictures, suggests: i, colour: -1 });
  });
  const astray = there.filter((p) => p.astray);
  const twins = there.filter((p) => p.elsewhere || (p.twin !== undefined && ofSet(p.twin).label !== -2));
  groups.push({ key: "astray", name: "among others", wrong: 0, pictures: astray });
  groups.push({ key: "twins", name: "twins", wrong: 0, pictures: twins });
  set.groups = groups;
}

const thisGroup = () => set.groups.find((g) => g.key === set.group) || set.groups[0];

function groupSays(group) {
  if (group.suggests !== undefined) {
    return `no label yet; the network says ${state.about.labels[group.suggests]}: the surest first. g takes them as suggested, down to the one that is picked`;
  }
  if (group.key === "astray") return "most of what is nearest to them has one other label: labelled wrongly, or alike";
  if (group.key === "twins") return "show the same as another picture here, or of a set that should share none with this one";
  if (!group.pictures.length) return "no picture";
  return group.wrong > 0
    ? `${group.wrong} of ${group.pictures.length} answered otherwise: those first, the surest before the others; then the least sure`
    : `all ${group.pictures.length} answered right, the least sure first`;
}

function showGroups() {
  const box = byId("groups");
  box.replaceChildren();
  const current = thisGroup();
  for (const group of set.groups) {
    const chip = text(box, "button", "");
    if (group.colour !== undefined) text(chip, "span", "", "key").style.background = colourOfLabel(group.colour);
    chip.append(`${group.name} ${group.pictures.length}`);
    chip.setAttribute("role", "tab");
    chip.setAttribute("aria-selected", String(group === current));
    if (group.wrong) text(chip, "b", ` ${group.wrong} wrong`);
    chip.addEventListener("click", () => { openGroup(group.key); chip.blur(); });
  }
  const more = current.pictures.length > SHOWN ? `; ${SHOWN} of them are shown` : "";
  const unreadable = set.list.unreadable ? `; ${set.list.unreadable} files here are no pictures that can be read` : "";
  byId("group-says").textContent = groupSays(current) + more + unreadable;
}

function openGroup(key) {
  set.group = key;
  set.picked = -1;
  showSet();
}

// ---- the pictures of a group ----

const colourOfLabel = (label) => (label >= 0 ? colourOf(label, state.about.labels.length) : style("faint"));

function thumb(parent, p, words) {
  const button = text(parent, "button", "", p.label >= 0 && p.answer !== p.label ? "thumb wrong" : "thumb");
  const image = document.createElement("img");
  image.loading = "lazy";
  image.src = still(p.number);
  image.alt = p.name;
  image.style.borderBottomColor = colourOfLabel(p.label >= 0 ? p.label : p.answer);
  button.append(image);
  if (words) text(button, "span", words);
  button.title = p.name;
  button.dataset.number = String(p.number);
  button.addEventListener("click", () => { pick(p.number); button.blur(); });
  return button;
}

function showGrid() {
  const grid = byId("grid");
  grid.replaceChildren();
  set.order = thisGroup().pictures.slice(0, SHOWN).map((p) => p.number);
  for (const number of set.order) {
    const p = ofSet(number);
    thumb(grid, p, `${state.about.labels[p.answer]} ${percentOf(p.sure)}`);
  }
}

function markPicked() {
  for (const button of byId("grid").children) {
    const picked = button.dataset.number === String(set.picked);
    button.setAttribute("aria-pressed", String(picked));
    if (picked) button.scrollIntoView({ block: "nearest" });
  }
}

// ---- one picture ----

function showNeighbours(p) {
  const box = byId("near");
  box.replaceChildren();
  for (const number of p.near || []) {
    const other = ofSet(number);
    if (other.label !== -2) thumb(box, other, other.label >= 0 ? state.about.labels[other.label] : "?");
  }
  byId("near-says").hidden = !box.children.length;
}

function showTwin(p) {
  const line = byId("one-twin");
  line.replaceChildren();
  if (p.elsewhere) text(line, "span", `stands in another set, too: ${p.elsewhere}`, "bad");
  if (p.twin !== undefined && ofSet(p.twin).label !== -2) {
    const button = text(line, "button", `shows the same: ${ofSet(p.twin).name}`);
    button.addEventListener("click", () => pick(p.twin));
  }
}

function showOne() {
  const p = set.picked >= 0 ? ofSet(set.picked) : null;
  const labels = state.about.labels;
  document.querySelector(".about-one").classList.toggle("none", !p);
  if (!p) return;
  byId("one").src = still(p.number);
  byId("one").alt = p.name;
  const own = p.label < 0 ? "no label yet" : p.label === p.answer ? `labelled ${labels[p.label]}` : `labelled ${labels[p.label]}: ${percentOf(p.own)}`;
  byId("one-says").textContent = `${own}; answered ${labels[p.answer]}: ${percentOf(p.sure)}`;
  byId("one-name").textContent = p.name;
  showTwin(p);
  showNeighbours(p);
}

// Those of another group, too: by the plane, or as a neighbour.
function pick(number) {
  const p = ofSet(number);
  const here = thisGroup().pictures.includes(p);
  if (!here) {
    set.group = p.label >= 0 ? state.about.labels[p.label] : `?${state.about.labels[p.answer]}`;
    showGroups();
    showGrid();
  }
  set.picked = number;
  markPicked();
  showOne();
  drawPlane();
  showMoves();
}

// ---- the plane ----

function planeScale(canvas) {
  const placed = set.list.pictures.filter((p) => p.x !== undefined && p.label !== -2);
  const range = (values) => [Math.min(...values), Math.max(...values)];
  const [left, right] = range(placed.map((p) => p.x));
  const [low, high] = range(placed.map((p) => p.y));
  const inside = (value, from, to, size) => 10 + ((value - from) / Math.max(to - from, 1e-9)) * (size - 20);
  return {
    placed,
    x: (p) => inside(p.x, left, right, canvas.clientWidth),
    y: (p) => canvas.clientHeight - inside(p.y, low, high, canvas.clientHeight),
  };
}

function dot(c, x, y, radius, fill, ring) {
  c.beginPath();
  c.arc(x, y, radius, 0, 2 * Math.PI);
  c.fillStyle = fill;
  c.fill();
  if (ring) {
    c.strokeStyle = ring;
    c.lineWidth = 1.5;
    c.stroke();
  }
}

function drawPlane() {
  const canvas = byId("plane");
  if (!set.list || !isSet()) return;
  const scale = window.devicePixelRatio || 1;
  canvas.width = Math.round(canvas.clientWidth * scale);
  canvas.height = Math.round(canvas.clientHeight * scale);
  const c = canvas.getContext("2d");
  c.setTransform(scale, 0, 0, scale, 0, 0);
  c.clearRect(0, 0, canvas.clientWidth, canvas.clientHeight);
  const on = planeScale(canvas);
  for (const wrong of [false, true]) { // those above the others
    for (const p of on.placed) {
      if ((p.label >= 0 && p.answer !== p.label) === wrong) dot(c, on.x(p), on.y(p), wrong ? 4 : 3, colourOfLabel(p.label), wrong ? style("ink") : "");
    }
  }
  const picked = set.picked >= 0 ? ofSet(set.picked) : null;
  if (picked && picked.x !== undefined) {
    for (const number of picked.near) if (ofSet(number).label !== -2) dot(c, on.x(ofSet(number)), on.y(ofSet(number)), 4, colourOfLabel(ofSet(number).label), style("glaze"));
    dot(c, on.x(picked), on.y(picked), 7, colourOfLabel(picked.label), style("clay"));
  }
}

byId("plane").addEventListener("click", (event) => {
  if (!set.list) return;
  const on = planeScale(event.currentTarget);
  const away = (p) => Math.hypot(on.x(p) - event.offsetX, on.y(p) - event.offsetY);
  const nearest = on.placed.reduce((best, p) => (!best || away(p) < away(best) ? p : best), null);
  if (nearest) pick(nearest.number);
});

// ---- moving ----

function send(what, numbers, label) {
  const to = label === undefined ? "" : `&label=${label}`;
  fetch(`do?what=${what}&round=${set.list.round}${to}`, { method: "POST", body: numbers.join(",") }).catch(() => {});
}

// What comes behind it is picked then.
function move(what, label) {
  if (set.picked < 0) return;
  const at = set.order.indexOf(set.picked);
  const next = set.order[at + 1] ?? set.order[at - 1] ?? -1;
  send(what, [set.picked], label);
  set.picked = next;
}

// Of those without a label: all down to the one that is picked, or, where none is, all.
function takeSuggested() {
  const group = thisGroup();
  if (group.suggests === undefined) return;
  const at = set.order.indexOf(set.picked);
  send("move", at >= 0 ? set.order.slice(0, at + 1) : set.order, group.suggests);
  set.picked = -1;
}

function step(by) {
  if (!set.order.length) return;
  const at = set.order.indexOf(set.picked);
  const to = at < 0 ? 0 : Math.min(Math.max(at + by, 0), set.order.length - 1);
  pick(set.order[to]);
}

// How many stand in a row.
function columns() {
  const all = [...byId("grid").children];
  const count = all.findIndex((button) => button.offsetTop !== all[0].offsetTop);
  return count > 0 ? count : Math.max(all.length, 1);
}

function nextGroup(by) {
  const at = set.groups.indexOf(thisGroup());
  openGroup(set.groups[(at + by + set.groups.length) % set.groups.length].key);
}

const setKeys = {
  ArrowRight: () => step(1), ArrowLeft: () => step(-1), ArrowDown: () => step(columns()), ArrowUp: () => step(-columns()),
  "]": () => nextGroup(1), "[": () => nextGroup(-1), x: () => move("aside"), g: takeSuggested, Escape: () => showView("camera"),
};

// Whether the key is one of this view's.
function setKey(event) {
  const label = labelOf(event);
  if (!set.list) return false;
  if (label >= 0) move("move", label);
  else if (setKeys[event.key]) setKeys[event.key]();
  else return false;
  return true;
}

// The buttons that do what the keys do.
function showMoves() {
  const box = byId("moves");
  box.replaceChildren();
  state.about.labels.forEach((label, i) => {
    const button = text(box, "button", `${label} `);
    if (i < 9) text(button, "kbd", String(i + 1));
    button.disabled = set.picked < 0;
    button.addEventListener("click", () => { move("move", i); button.blur(); });
  });
  byId("aside").disabled = set.picked < 0;
  byId("suggested").hidden = !isSet() || thisGroup().suggests === undefined;
}

byId("aside").addEventListener("click", (event) => { move("aside"); event.currentTarget.blur(); });
byId("suggested").addEventListener("click", (event) => { takeSuggested(); event.currentTarget.blur(); });

// ---- the view ----

function showSet() {
  makeGroups();
  showGroups();
  showGrid();
  if (set.picked >= 0 && !set.order.includes(set.picked)) set.picked = -1;
  byId("plane-says").textContent = set.list.unplaced ? `no plane: ${set.list.unplaced}` : "each picture by what the layer before the last says of it; ringed: answered wrongly";
  markPicked();
  showOne();
  showMoves();
  drawPlane();
}

async function fetchSet() {
  const answer = await fetch("set");
  if (!answer.ok) return;
  const before = set.list;
  set.list = await answer.json();
  if (!before || before.round !== set.list.round) set.picked = -1;
  if (isSet()) showSet();
  if (!before) followAddress();
}

// "#set/crack": that group, and the first of its pictures.
function followAddress() {
  const [view, group] = decodeURIComponent(location.hash.slice(1)).split("/");
  if (view !== "set" || !set.groups.some((g) => g.key === group)) return;
  openGroup(group);
  step(1);
}

// How far it is; that there is something new; that it cannot be.
function hearOfSet(heard) {
  if (heard.failed !== undefined) {
    set.list = null;
    byId("group-says").textContent = heard.failed;
  } else if (heard.done !== undefined) {
    byId("group-says").textContent = `looking at the pictures: ${heard.done} of ${heard.total}`;
  } else {
    fetchSet().catch(() => {});
  }
}

function showView(name) {
  document.body.dataset.view = name;
  const inSet = name === "set";
  byId("camera").hidden = inSet;
  byId("set").hidden = !inSet;
  byId("to-camera").setAttribute("aria-pressed", String(!inSet));
  byId("to-set").setAttribute("aria-pressed", String(inSet));
  for (const id of ["pause", "step", "slower", "speed", "faster", "hands-free"]) byId(id).hidden = inSet;
  for (const id of ["moves", "aside"]) byId(id).hidden = !inSet;
  byId("suggested").hidden = true;
  release();
  endCount();
  if (inSet) {
    ask("look");
    if (set.list) showSet();
  } else {
    drawStrip();
  }
}

byId("to-camera").addEventListener("click", (event) => { showView("camera"); event.currentTarget.blur(); });
byId("to-set").addEventListener("click", (event) => { showView("set"); event.currentTarget.blur(); });
