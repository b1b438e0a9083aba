/* Shows what comes over the stream of events: once who is there, then a message a picture. */
"use strict";

const MINUTE = 60; // seconds that the strip shows
const byId = (id) => document.getElementById(id);
const HOLD = 400; // milliseconds from which on a key that is held keeps each picture that comes
const OFFERED = 12; // pictures worth keeping that are still to be had
const COUNT = 3; // seconds of the count-down, and then
const BURST = 2; // seconds in which each picture is kept
const state = {
  about: null, rows: [], past: [], number: -1, kept: null, ended: false,
  held: null, // a picture that is looked at again
  pressed: -1, since: 0, // the label whose key is down, and since when
  handsFree: false, timer: 0, burst: -1, until: 0,
};

// ---- colours ----

const style = (name) => getComputedStyle(document.documentElement).getPropertyValue("--" + name).trim();

// A line or class keeps its colour; the one at rest has none.
function colourOf(index, count) {
  return `hsl(${Math.round((14 + (360 * index) / Math.max(count, 1)) % 360)} 48% 52%)`;
}

// ---- once ----

function text(parent, tag, words, kind) {
  const made = document.createElement(tag);
  made.textContent = words;
  if (kind) made.className = kind;
  parent.append(made);
  return made;
}

function showAbout(about) {
  state.about = about;
  state.rows = [];
  document.title = `${about.model} - netsuke watch`;
  byId("title").textContent = about.model;
  byId("below").textContent = about.below;
  byId("where").textContent = about.where;
  const body = byId("classes").tBodies[0];
  body.replaceChildren();
  about.labels.forEach((label, i) => {
    const row = document.createElement("tr");
    text(row, "td", label).title = label;
    const bars = text(row, "td", "");
    const integer = text(bars, "span", "", "bar integer");
    const float = text(bars, "span", "", "bar float");
    const numbers = [text(row, "td", ""), text(row, "td", "")];
    const kept = text(row, "td", "", "kept");
    const button = text(kept, "button", "");
    kept.hidden = true;
    button.addEventListener("pointerdown", () => press(i));
    button.addEventListener("click", (event) => { if (event.detail === 0) press(i); release(); button.blur(); });
    body.append(row);
    state.rows.push({ row, integer, float, numbers, kept, button });
  });
  const legend = byId("legend");
  legend.replaceChildren("the last minute: answers in bars as high as they are likely, decisions in full");
  about.lines.forEach((line, i) => {
    const key = text(legend, "span", "", "key");
    key.style.background = i === about.resting ? style("line") : colourOf(i, about.lines.length);
    legend.append(line);
  });
  if (state.counts) showKept(state.counts);
}

// ---- a picture ----

const percent = (p) => `${(100 * p).toFixed(1)} %`;
const milliseconds = (s) => (s < 0.01 ? `${(1000 * s).toFixed(2)} ms` : `${(1000 * s).toFixed(1)} ms`);

function showFrame(pixels, width, height, channels) {
  const canvas = byId("frame");
  const bytes = atob(pixels);
  canvas.width = width;
  canvas.height = height;
  const context = canvas.getContext("2d");
  const image = context.createImageData(width, height);
  for (let i = 0; i < width * height; i++) {
    for (let k = 0; k < 3; k++) image.data[4 * i + k] = bytes.charCodeAt(channels === 1 ? i : 3 * i + k);
    image.data[4 * i + 3] = 255;
  }
  context.putImageData(image, 0, 0);
}

function showClasses(seen) {
  state.rows.forEach((r, i) => {
    const p = seen.integer ? [seen.integer[i], seen.float[i]] : [0, 0];
    r.integer.style.width = `${100 * p[0]}%`;
    r.float.style.width = `${100 * p[1]}%`;
    r.numbers.forEach((cell, k) => { cell.textContent = seen.integer ? percent(p[k]) : ""; });
    r.row.className = (seen.said && seen.said[i] ? "first " : "") + (i === seen.truth ? "truth" : "");
  });
}

function showDecision(seen) {
  const box = byId("line").parentElement;
  const lines = state.about.lines;
  const resting = state.about.resting;
  const up = seen.standing >= 0 && seen.standing !== resting;
  box.className = "decision" + (seen.fault ? " fault" : up ? " up" : seen.standing === resting && resting >= 0 ? " rest" : "");
  byId("line").textContent = seen.fault ? seen.fault : seen.line >= 0 ? lines[seen.line] : "unsure";
  byId("standing").textContent = up ? `line up: ${lines[seen.standing]}` : "no line is up";
}

function showFigures(seen) {
  const list = byId("figures");
  const about = state.about;
  const figures = [
    ["frames a second", seen.fps.toFixed(1)],
    ["pictures", String(seen.number + 1) + (about.count ? ` of ${about.count}` : "")],
    ["dropped", String(seen.dropped), seen.dropped > 0],
    [about.looks ? "look, there and back" : "camera", milliseconds(seen.took[0])],
    ["prepare", milliseconds(seen.took[1])],
    ["float", milliseconds(seen.took[2])],
  ];
  if (!about.looks) figures.push([about.far ? "integer, and back" : "integer", milliseconds(seen.took[3])]);
  if (seen.clocks > 0 && about.emulated) figures.push(["instructions there", `${(seen.clocks / 1e6).toFixed(2)} M`]);
  else if (seen.clocks > 0) figures.push(["on the board", milliseconds(seen.clocks / about.clock)]);
  if (!seen.fault) {
    ["brightness", "contrast", "warmth"].forEach((name, k) => {
      const value = Math.round(seen.light[k]);
      const known = about.known[k];
      const outside = known && (seen.light[k] < known[0] || seen.light[k] > known[1]);
      figures.push([name, outside ? `${value}: not ${Math.round(known[0])} to ${Math.round(known[1])}` : `${value}`, outside]);
    });
  }
  if (about.far) figures.push(["scores that differ", String(seen.differ), seen.differ > 0]);
  list.replaceChildren();
  for (const [name, value, bad] of figures) {
    const pair = document.createElement("div");
    text(pair, "dt", name);
    text(pair, "dd", value, bad ? "bad" : "");
    list.append(pair);
  }
}

function showPicture(seen) {
  const about = state.about;
  state.number = seen.number;
  byId("picture").src = seen.picture;
  byId("picture-size").textContent = `${seen.width} x ${seen.height}`;
  byId("frame-size").textContent = `${about.width} x ${about.height}`;
  showFrame(seen.frame, about.width, about.height, about.channels);
  byId("name").textContent = state.held === seen ? `held: ${seen.worth}, ${seen.name || `picture ${seen.number}`}` : seen.name;
  showClasses(seen);
  showDecision(seen);
}

function show(seen) {
  if (!state.about) return;
  if (!state.held) showPicture(seen);
  showFigures(seen);
  if (seen.worth && state.kept) offer(seen);
  keepMore();
  state.past.push({
    at: seen.at, line: seen.line, sure: seen.likely, decided: seen.decided, fault: Boolean(seen.fault),
    dropped: seen.dropped,
  });
  while (state.past.length && state.past[0].at < seen.at - MINUTE) state.past.shift();
  drawStrip();
}

// ---- the last minute ----

function drawStrip() {
  const canvas = byId("strip");
  const scale = window.devicePixelRatio || 1;
  const width = canvas.clientWidth;
  const height = canvas.clientHeight;
  if (canvas.width !== Math.round(width * scale)) canvas.width = Math.round(width * scale);
  if (canvas.height !== Math.round(height * scale)) canvas.height = Math.round(height * scale);
  const c = canvas.getContext("2d");
  c.setTransform(scale, 0, 0, scale, 0, 0);
  c.clearRect(0, 0, width, height);
  const past = state.past;
  if (!past.length) return;
  const now = past[past.length - 1].at;
  const x = (at) => width * (1 - (now - at) / MINUTE);
  const ground = height - 18;
  const count = state.about.lines.length;
  c.font = "11px 'DejaVu Sans', sans-serif";
  c.fillStyle = style("faint");
  c.strokeStyle = style("pale");
  for (let s = 0; s <= MINUTE; s += 10) {
    const at = Math.round(x(now - s)) + 0.5;
    c.beginPath();
    c.moveTo(at, 0);
    c.lineTo(at, ground);
    c.stroke();
    c.textAlign = s === 0 ? "right" : s === MINUTE ? "left" : "center";
    c.fillText(s === 0 ? "now" : `-${s} s`, Math.min(Math.max(at, 2), width - 2), height - 5);
  }
  let free = 0; // where the next name may begin
  past.forEach((p, i) => {
    const from = x(p.at);
    const next = i + 1 < past.length ? x(past[i + 1].at) : from + Math.max(2, width / 300);
    const wide = Math.min(Math.max(next - from, 1), width / 20);
    if (p.fault) {
      c.fillStyle = style("sand");
      c.fillRect(from, 16, wide, ground - 16);
    } else if (p.line >= 0) {
      c.fillStyle = p.line === state.about.resting ? style("line") : colourOf(p.line, count);
      const tall = Math.max(p.sure, 0.02) * (ground - 16);
      c.fillRect(from, ground - tall, wide, tall);
    }
    if (p.decided >= 0) {
      c.fillStyle = colourOf(p.decided, count);
      c.fillRect(from - 1, 0, 3, ground);
      c.fillStyle = style("ink");
      c.textAlign = "left";
      if (from >= free) {
        c.fillText(state.about.lines[p.decided], from + 5, 11);
        free = from + 12 + c.measureText(state.about.lines[p.decided]).width;
      }
    }
    if (i > 0 && p.dropped > past[i - 1].dropped) {
      c.fillStyle = style("clay");
      c.fillRect(from, ground - 3, wide, 3);
    }
  });
}

// ---- what is asked for ----

function ask(what) {
  fetch(`do?what=${what}`, { method: "POST" }).catch(() => {});
}

// ---- what is kept ----

// The picture in view; one that was kept under that label is not kept twice.
function keep(label) {
  if (!state.kept || state.number < 0 || state.kept[label] === state.number) return;
  state.kept[label] = state.number;
  ask(`keep&number=${state.number}&label=${label}`);
  if (state.held) {
    withdraw(state.held.number);
    letGo();
  }
}

// A label's key or button goes down: one picture, or a burst while it stays there; hands free, a
// burst after a count-down.
function press(label) {
  if (!state.kept || state.pressed === label) return;
  if (state.handsFree && !state.held) return countDown(label, COUNT);
  keep(label);
  state.pressed = label;
  state.since = performance.now();
}

function release() {
  state.pressed = -1;
}

function keepMore() {
  const now = performance.now();
  if (state.pressed >= 0 && now - state.since > HOLD) keep(state.pressed);
  if (state.burst >= 0 && now < state.until) keep(state.burst);
  else if (state.burst >= 0) endCount();
}

function countDown(label, left) {
  endCount();
  byId("count").textContent = left > 0 ? String(left) : "";
  if (left > 0) {
    state.timer = setTimeout(() => countDown(label, left - 1), 1000);
  } else {
    state.burst = label;
    state.until = performance.now() + 1000 * BURST;
    byId("count").textContent = state.about.labels[label];
  }
}

function endCount() {
  clearTimeout(state.timer);
  state.burst = -1;
  byId("count").textContent = "";
}

function toggleHandsFree() {
  state.handsFree = !state.handsFree;
  endCount();
  byId("hands-free").setAttribute("aria-pressed", String(state.handsFree));
}

// ---- what is worth keeping ----

function offer(seen) {
  const box = byId("offered");
  box.hidden = false;
  const button = text(box, "button", "");
  box.prepend(button);
  const image = document.createElement("img");
  image.src = seen.picture;
  image.alt = "";
  button.append(image);
  text(button, "span", seen.worth);
  button.dataset.number = String(seen.number);
  button.addEventListener("click", () => { hold(seen); button.blur(); });
  button.seen = seen;
  while (box.children.length > OFFERED) box.lastChild.remove();
}

function hold(seen) {
  state.held = seen;
  for (const button of byId("offered").children) button.setAttribute("aria-pressed", String(button.seen === seen));
  showPicture(seen);
}

function letGo() {
  state.held = null;
  for (const button of byId("offered").children) button.setAttribute("aria-pressed", "false");
}

function withdraw(number) {
  for (const button of [...byId("offered").children]) if (button.dataset.number === String(number)) button.remove();
}

// The next of those that are offered, the newest first.
function holdNext() {
  const all = [...byId("offered").children];
  const at = all.findIndex((button) => button.seen === state.held);
  if (all.length) hold(all[(at + 1) % all.length].seen);
}

function showKept(kept) {
  if (!state.counts && location.hash.startsWith("#set")) showView("set");
  state.counts = kept;
  state.kept = state.kept || {};
  const most = Math.max(...kept.counts);
  for (const id of ["back", "views"]) byId(id).hidden = false;
  byId("hands-free").hidden = isSet();
  document.querySelector("th.kept").hidden = false;
  state.rows.forEach((r, i) => {
    r.kept.hidden = false;
    r.kept.className = "kept" + (2 * kept.counts[i] < most ? " few" : "");
    r.button.replaceChildren(`${kept.counts[i]} `);
    r.button.title = `keep the picture in view as ${state.about.labels[i]}`;
    if (i < 9) text(r.button, "kbd", String(i + 1));
  });
  byId("back").disabled = kept.steps === 0;
  byId("kept").className = kept.error ? "bad" : "";
  byId("kept").textContent = kept.error || kept.last;
}

function showPace(pace) {
  byId("pause").setAttribute("aria-pressed", String(pace.paused));
  byId("pause").firstChild.textContent = pace.paused ? "go on " : "pause ";
  byId("step").disabled = !pace.paused;
  byId("speed").textContent = pace.speed > 0 ? `${pace.speed} x` : "as it comes";
  byId("slower").disabled = byId("faster").disabled = !(pace.speed > 0);
}

const keys = { " ": "pause", p: "pause", ArrowRight: "step", n: "step", "-": "slower", "+": "faster", "=": "faster", u: "back" };
const labelOf = (event) => (/^[1-9]$/.test(event.key) && Number(event.key) <= state.rows.length ? Number(event.key) - 1 : -1);

function cameraKey(event) {
  const label = labelOf(event);
  if (label >= 0) press(label);
  else if (event.key === "o") holdNext();
  else if (event.key === "Escape") { letGo(); endCount(); }
  else if (event.key === "h" && state.kept) toggleHandsFree();
}

document.addEventListener("keydown", (event) => {
  const pressed = event.target instanceof HTMLButtonElement && event.key === " "; // the button's own
  if (pressed || event.ctrlKey || event.metaKey || event.altKey) return;
  if (event.key === "s" && state.kept) return showView(isSet() ? "camera" : "set");
  if (isSet() && setKey(event)) return event.preventDefault();
  if (!isSet()) cameraKey(event);
  const what = keys[event.key];
  if (!what) return;
  event.preventDefault();
  ask(what);
});
document.addEventListener("keyup", (event) => { if (labelOf(event) >= 0) release(); });
document.addEventListener("pointerup", release);
byId("hands-free").addEventListener("click", (event) => { toggleHandsFree(); event.currentTarget.blur(); });
for (const what of ["pause", "step", "slower", "faster", "back"]) {
  byId(what).addEventListener("click", (event) => { ask(what); event.currentTarget.blur(); });
}

// ---- the stream ----

// Once both scripts are there.
function listen() {
  const events = new EventSource("events");
  const hears = { about: showAbout, seen: show, pace: showPace, kept: showKept, set: hearOfSet, end: showEnd };
  for (const [name, heard] of Object.entries(hears)) events.addEventListener(name, (event) => heard(JSON.parse(event.data)));
  events.onerror = () => {
    if (!state.ended) byId("below").textContent = "netsuke is not answering: has it ended?";
  };
  events.onopen = () => { if (state.about) byId("below").textContent = state.about.below; };
}

function showEnd(end) {
  state.ended = true;
  byId("below").textContent = end.why;
  for (const what of ["pause", "step", "slower", "faster"]) byId(what).disabled = true; // what is kept may still be taken back
}

function redraw() {
  drawStrip();
  drawPlane();
}

window.addEventListener("DOMContentLoaded", listen);
window.addEventListener("resize", redraw);
window.matchMedia("(prefers-color-scheme: dark)").addEventListener("change", () => { if (state.about) showAbout(state.about); redraw(); });
