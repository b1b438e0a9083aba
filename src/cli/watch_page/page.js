/* Shows what comes over the stream of events: once who is there, then a message a picture. */
"use strict";

const MINUTE = 60; // seconds that the strip shows
const byId = (id) => document.getElementById(id);
const state = { about: null, rows: [], past: [], number: -1, kept: null, ended: false };

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
    button.addEventListener("click", () => { keep(i); button.blur(); });
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

function show(seen) {
  if (!state.about) return;
  state.number = seen.number;
  byId("picture").src = seen.picture;
  byId("picture-size").textContent = `${seen.width} x ${seen.height}`;
  const about = state.about;
  byId("frame-size").textContent = `${about.width} x ${about.height}`;
  showFrame(seen.frame, about.width, about.height, about.channels);
  byId("name").textContent = seen.name;
  showClasses(seen);
  showDecision(seen);
  showFigures(seen);
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
}

function showKept(kept) {
  state.kept = state.kept || {};
  const most = Math.max(...kept.counts);
  document.querySelector("th.kept").hidden = byId("back").hidden = false;
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
document.addEventListener("keydown", (event) => {
  const what = keys[event.key];
  const label = /^[1-9]$/.test(event.key) ? Number(event.key) - 1 : -1;
  if (label >= 0 && label < state.rows.length && !event.ctrlKey && !event.metaKey && !event.altKey) keep(label);
  const pressed = event.target instanceof HTMLButtonElement && event.key === " "; // the button's own
  if (!what || pressed || event.ctrlKey || event.metaKey || event.altKey) return;
  event.preventDefault();
  ask(what);
});
for (const what of ["pause", "step", "slower", "faster", "back"]) {
  byId(what).addEventListener("click", (event) => { ask(what); event.currentTarget.blur(); });
}

// ---- the stream ----

const events = new EventSource("events");
events.addEventListener("about", (event) => showAbout(JSON.parse(event.data)));
events.addEventListener("seen", (event) => show(JSON.parse(event.data)));
events.addEventListener("pace", (event) => showPace(JSON.parse(event.data)));
events.addEventListener("kept", (event) => showKept(JSON.parse(event.data)));
events.addEventListener("end", (event) => {
  state.ended = true;
  byId("below").textContent = JSON.parse(event.data).why;
  for (const what of ["pause", "step", "slower", "faster"]) byId(what).disabled = true; // what is kept may still be taken back
});
events.onerror = () => {
  if (!state.ended) byId("below").textContent = "netsuke is not answering: has it ended?";
};
events.onopen = () => { if (state.about) byId("below").textContent = state.about.below; };
window.addEventListener("resize", drawStrip);
window.matchMedia("(prefers-color-scheme: dark)").addEventListener("change", () => { if (state.about) showAbout(state.about); drawStrip(); });
