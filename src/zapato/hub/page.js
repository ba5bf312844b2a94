"use strict";
// Things and their values. Every text goes into the page as text, never as markup.

const rows = new Map(), things = new Map(), alerts = new Map();
const ANSWER = 5000;
let skew = 0;

function make(tag, more = {}, ...inside) {
  const found = document.createElement(tag);
  for (const [key, value] of Object.entries(more)) {
    if (key.startsWith("on")) found.addEventListener(key.slice(2), value);
    else if (key in found && key !== "list") found[key] = value;
    else found.setAttribute(key, value);
  }
  found.append(...inside.filter((each) => each !== null));
  return found;
}

const units = {Cel: "°C", "%RH": "% RH", "lx": "lx", s: "s"};
const unit = (about) => (about.unit ? " " + (units[about.unit] || about.unit) : "");

const truths = {on: ["off", "on"], closed: ["open", "closed"], down: ["not pressed", "pressed"], present: ["nobody", "somebody"]};

function shown(value, name = "on") {
  if (value === null || value === undefined) return "–";
  if (typeof value === "boolean") return (truths[name.split(".").at(-1)] || ["no", "yes"])[Number(value)];
  return typeof value === "number" ? String(Math.round(value * 1000) / 1000) : String(value);
}

function ago(at) {
  const s = Math.max(0, Date.now() / 1000 + skew - at);
  if (s < 2) return "now";
  if (s < 90) return `${Math.round(s)} s ago`;
  if (s < 5400) return `${Math.round(s / 60)} min ago`;
  return s < 129600 ? `${Math.round(s / 3600)} h ago` : `${Math.round(s / 86400)} d ago`;
}

async function ask(body) {
  const answer = await fetch("/do", {method: "POST", headers: {"Content-Type": "application/json"}, body: JSON.stringify(body)});
  const found = await answer.json();
  if (!answer.ok) throw new Error(found.wrong + (found.fix ? ` (${found.fix})` : ""));
}

const plain = (what) => what.replace(/_/g, " ");

class Row {
  constructor(thing, about, alone) {
    this.name = `${thing.name}.${about.name}`;
    this.about = about;
    this.there = thing.online === true;
    this.age = make("small");
    this.value = make("div", {className: "value"});
    this.said = make("div", {className: "said", hidden: true, role: "alert"});
    this.past = make("div", {className: "past", hidden: true});
    const [part, what] = about.label.includes(": ") ? about.label.split(/: (.*)/) : [about.label, ""];
    this.part = part;
    const words = alone ? part : plain(what || part);
    const label = make("button", {className: "label", title: `${about.label}: its past`, onclick: () => this.look()},
      make("span", {}, words), alone ? this.age : null);
    this.box = make("div", {className: "one"}, label, this.value, this.said, this.past);
    this.box.dataset.name = this.name;
    this.field = about.settable && this.there ? this.control() : null;
    if (this.field) this.value.append(this.field, document.createTextNode(about.type === "boolean" ? "" : unit(about)));
    this.put(about.value, about.at, about.kept);
  }

  control() {
    const {type, low, high, options} = this.about;
    const send = (value) => this.send(value);
    if (type === "boolean")
      return make("button", {className: "switch", role: "switch", "aria-label": this.about.label, onclick: () => send(!this.now)});
    if (options)
      return make("select", {"aria-label": this.about.label, onchange: (e) => send(e.target.value)}, ...options.map((o) => make("option", {value: o}, o)));
    if (type === "number" && low !== undefined && high !== undefined) {
      const number = make("span", {}, "");
      const slide = make("input", {type: "range", min: low, max: high, step: high - low <= 10 ? 0.1 : 1, "aria-label": this.about.label,
        oninput: (e) => { number.textContent = e.target.value; }, onchange: (e) => send(Number(e.target.value))});
      this.number = number;
      this.slide = slide;
      return make("span", {}, slide, " ", number);
    }
    if (type === "number")
      return make("input", {type: "number", step: "any", "aria-label": this.about.label, onchange: (e) => e.target.value !== "" && send(Number(e.target.value))});
    const color = /^#[0-9a-f]{6}$/i.test(this.about.value || "");
    return make("input", {type: color ? "color" : "text", maxLength: 100, "aria-label": this.about.label, onchange: (e) => send(e.target.value)});
  }

  put(value, at, kept) {
    this.now = value;
    this.at = at;
    this.kept = kept;
    this.value.classList.remove("waits");
    clearTimeout(this.timer);
    this.draw();
    this.tick();
  }

  draw() {
    const field = this.field;
    if (!field) {
      this.value.replaceChildren(make("b", {}, shown(this.now, this.name)), this.now === null || typeof this.now === "boolean" ? "" : unit(this.about));
    } else if (this.about.type === "boolean") field.setAttribute("aria-checked", String(this.now === true));
    else if (this.slide) {
      if (document.activeElement !== this.slide || !this.value.classList.contains("waits")) this.slide.value = this.now ?? this.about.low;
      this.number.textContent = shown(this.now);
    } else if (document.activeElement !== field || field.tagName === "SELECT") field.value = this.now ?? "";
  }

  tick() {
    this.age.textContent = this.at === null ? "never heard" : this.kept ? "as the broker kept it" : ago(this.at);
    if (this.after) this.after();
  }

  tell(text) {
    this.said.textContent = text;
    this.said.hidden = !text;
  }

  async send(value) {
    this.tell("");
    this.value.classList.add("waits");
    try {
      await ask({name: this.name, value});
      this.timer = setTimeout(() => { this.value.classList.remove("waits"); this.tell("sent, and the device did not answer"); this.draw(); }, ANSWER);
    } catch (wrong) {
      this.value.classList.remove("waits");
      this.tell(wrong.message);
      this.draw();
    }
  }

  async look(since = 3600) {
    if (!this.past.hidden && since === this.since) { this.past.hidden = true; this.since = 0; return; }
    this.since = since;
    const found = await (await fetch(`/past?name=${encodeURIComponent(this.name)}&since=${since}`)).json();
    const spans = [["10 min", 600], ["1 h", 3600], ["24 h", 86400], ["7 d", 604800]];
    this.past.replaceChildren(
      make("nav", {}, ...spans.map(([text, s]) => make("button", {"aria-pressed": String(s === since), onclick: () => s !== this.since && this.look(s)}, text))),
      chart(found, this.about));
    this.past.hidden = false;
  }
}

function chart(found, about) {
  const W = 340, H = 120, L = 38, B = 18, T = 8;
  const svg = document.createElementNS("http://www.w3.org/2000/svg", "svg");
  svg.setAttribute("viewBox", `0 0 ${W} ${H}`);
  svg.setAttribute("role", "img");
  svg.setAttribute("aria-label", `the past of ${about.label}`);
  const put = (tag, more, text) => {
    const each = document.createElementNS(svg.namespaceURI, tag);
    for (const [key, value] of Object.entries(more)) each.setAttribute(key, value);
    if (text !== undefined) each.textContent = text;
    svg.append(each);
  };
  const number = (v) => (typeof v === "boolean" ? Number(v) : v);
  const points = found.points.map((p) => ({at: p.at, value: number(p.value), low: number(p.low), high: number(p.high)})).filter((p) => typeof p.value === "number");
  if (!points.length) {
    const last = found.points.length ? `${found.points.length} texts, the last: ${shown(found.points.at(-1).value).slice(0, 40)}` : "nothing in this time";
    put("text", {x: L, y: H / 2}, last);
    return svg;
  }
  const steps = about.type === "boolean" || about.settable;
  let low = Math.min(...points.map((p) => p.low)), high = Math.max(...points.map((p) => p.high));
  if (about.type === "boolean") [low, high] = [0, 1];
  if (high - low < 1e-9) [low, high] = [low - 1, high + 1];
  const x = (at) => L + ((at - found.since) / (found.until - found.since)) * (W - L - 4);
  const y = (v) => T + (1 - (v - low) / (high - low)) * (H - B - T);
  const f = (v) => v.toFixed(1);
  for (const v of [low, high]) {
    put("line", {x1: L, x2: W - 4, y1: f(y(v)), y2: f(y(v))});
    put("text", {x: L - 4, y: f(y(v) + 3), "text-anchor": "end"}, about.type === "boolean" ? shown(Boolean(v), about.name) : Number(v.toPrecision(4)));
  }
  const time = (at) => new Date(at * 1000).toLocaleTimeString([], {hour: "2-digit", minute: "2-digit"});
  const day = (at) => new Date(at * 1000).toLocaleDateString([], {day: "numeric", month: "short"});
  const long = found.until - found.since > 90000;
  put("text", {x: L, y: H - 4}, long ? day(found.since) : time(found.since));
  put("text", {x: W - 4, y: H - 4, "text-anchor": "end"}, "now");
  if (points.some((p) => p.high > p.low)) {
    const edge = points.map((p) => `${f(x(p.at))},${f(y(p.high))}`).concat([...points].reverse().map((p) => `${f(x(p.at))},${f(y(p.low))}`));
    put("polygon", {class: "band", points: edge.join(" ")});
  }
  let path = "", before = null;
  for (const p of points) {
    if (before && steps) path += ` L${f(x(p.at))} ${f(y(before.value))}`;
    path += `${before ? " L" : "M"}${f(x(p.at))} ${f(y(p.value))}`;
    before = p;
  }
  if (points.length === 1) put("circle", {class: "dot", cx: f(x(before.at)), cy: f(y(before.value)), r: 2.5});
  put("path", {class: "curve", d: path + ` L${f(x(found.until))} ${f(y(before.value))}`});
  return svg;
}

function action(thing, about, say) {
  const name = `${thing.name}.${about.name}`;
  const call = async (inputs) => { say(""); try { await ask({name, inputs}); say(`${about.name}: sent`); } catch (wrong) { say(wrong.message); } };
  if (!about.takes.length) return make("button", {onclick: () => call([])}, about.name);
  const fields = about.takes.map((one) => one.options
    ? make("select", {}, ...one.options.map((o) => make("option", {}, o)))
    : make("input", {type: one.type === "number" ? "number" : "text", step: "any", required: true, placeholder: one.unit || one.type || "value", "aria-label": `${about.name} ${one.unit || ""}`}));
  const read = (field, one) => (one.type === "number" ? Number(field.value) : one.type === "boolean" ? field.value === "true" : field.value);
  return make("form", {onsubmit: (e) => { e.preventDefault(); call(fields.map((field, i) => read(field, about.takes[i]))); }},
    make("button", {type: "submit"}, about.name), ...fields);
}

// The values of one part stand together, under its name and the age of the newest of them.
function part(thing, abouts) {
  const alone = abouts.length === 1;
  const found = abouts.map((each) => new Row(thing, each, alone));
  const values = make("div", {className: "values"}, ...found.map((r) => r.box));
  const box = make("div", {className: alone ? "part alone" : "part"});
  if (!alone) {
    const age = make("small");
    const newest = () => found.reduce((one, other) => ((other.at ?? -1) > (one.at ?? -1) ? other : one));
    found.forEach((r) => { r.after = () => { age.textContent = newest().age.textContent; }; });
    found[0].after();
    box.append(make("div", {className: "name"}, make("span", {}, found[0].part), age));
  }
  box.append(values);
  return {box, rows: found, heard: found.some((r) => r.at !== null || r.field)}; // what can be set is shown in any case
}

function card(thing) {
  const dot = make("span", {className: "dot"}), state = make("span", {className: "state"});
  const said = make("small", {role: "status"});
  const acts = thing.actions.length && thing.online === true
    ? make("details", {}, make("summary", {}, thing.actions.length === 1 ? "1 action" : `${thing.actions.length} actions`),
        make("div", {className: "acts"}, ...thing.actions.map((each) => action(thing, each, (text) => { said.textContent = text; }))), said) : null;
  const groups = new Map();
  for (const each of thing.properties) {
    const key = each.name.split(".")[0];
    groups.set(key, [...(groups.get(key) || []), each]);
  }
  const parts = [...groups.values()].map((abouts) => part(thing, abouts));
  const silent = parts.filter((each) => !each.heard);
  const fold = silent.length ? make("details", {className: "silent"},
    make("summary", {}, silent.length === 1 ? "1 part was never heard" : `${silent.length} parts were never heard`), ...silent.map((each) => each.box)) : null;
  const found = {thing, dot, state, rows: parts.flatMap((each) => each.rows), form: form(thing)};
  const room = thing.where && thing.where !== thing.label ? make("small", {}, thing.where) : null;
  found.box = make("article", {}, make("h2", {}, dot, make("span", {}, thing.label), room, state),
    ...parts.filter((each) => each.heard).map((each) => each.box), fold, acts);
  found.box.dataset.name = thing.name;
  found.rows.forEach((r) => rows.set(r.name, r));
  things.set(thing.name, found);
  online(found, thing.online);
  return found.box;
}

// What a card is made of; where that is as before the card stays, with what is open in it.
const form = (thing) => JSON.stringify([thing.online, thing.label, thing.where, thing.actions.map((each) => each.name),
  thing.properties.map((each) => [each.name, each.label, each.settable, each.at === null])]);

function kept(old, thing) {
  things.set(thing.name, old);
  old.rows.forEach((row) => {
    const about = thing.properties.find((each) => `${thing.name}.${each.name}` === row.name);
    rows.set(row.name, row);
    if (about.at !== row.at) row.put(about.value, about.at, about.kept);
  });
  return old.box;
}

function online(found, there) {
  found.there = there;
  found.dot.className = `dot ${there === true ? "on" : there === false ? "off" : ""}`;
  found.state.textContent = there === true ? "online" : there === false ? "offline" : "";
  found.box.classList.toggle("away", there === false);
}

function told() {
  document.getElementById("alerts").replaceChildren(...[...alerts.values()].map((each) =>
    make("div", {className: "alert"}, make("span", {}, each.text), make("small", {}, ago(each.at)))));
}

function pager(found) {
  const box = document.getElementById("pages");
  const go = (to) => { page = to; all(); window.scrollTo(0, 0); };
  box.hidden = found.pages < 2;
  box.replaceChildren(
    make("button", {disabled: found.page === 0, "aria-label": "the page before", onclick: () => go(found.page - 1)}, "‹"),
    make("span", {}, `page ${found.page + 1} of ${found.pages}`),
    make("button", {disabled: found.page + 1 >= found.pages, "aria-label": "the next page", onclick: () => go(found.page + 1)}, "›"));
}

// Within what is on the page only the parts that were looked for are shown.
function sift() {
  const wanted = document.getElementById("find").value.trim().toLowerCase();
  for (const found of things.values()) {
    const whole = `${found.thing.name} ${found.thing.label} ${found.thing.where}`.toLowerCase().includes(wanted);
    for (const row of found.rows) row.box.hidden = !(whole || `${row.about.name} ${row.about.label}`.toLowerCase().includes(wanted));
    found.box.hidden = !whole && found.rows.every((row) => row.box.hidden);
    for (const box of found.box.querySelectorAll(".part")) box.hidden = ![...box.querySelectorAll(".one")].some((one) => !one.hidden);
  }
}

let later = 0, page = 0, source = null, following = "", asked = 0;
async function all() {
  clearTimeout(later);
  later = 0;
  const mine = ++asked;
  const find = document.getElementById("find").value.trim();
  const answer = await fetch(`/things?page=${page}&find=${encodeURIComponent(find)}`);
  const found = await answer.json();
  if (mine !== asked) return;
  if (!answer.ok) { lost(found.wrong); return; }
  skew = found.at - Date.now() / 1000;
  page = found.page;
  const before = new Map(things);
  rows.clear(); things.clear(); alerts.clear();
  found.alerts.forEach((each) => alerts.set(each.name, each));
  const empty = found.all ? make("p", {className: "empty"}, "Nothing has these words in it.")
    : make("p", {className: "empty"}, "No device is described at this broker yet. Devices appear by themselves once ",
      make("code", {}, "zapato deliver"), ", ", make("code", {}, "zapato fleet --describe"), " or ", make("code", {}, "zapato hub SITE"), " has told the broker of them.");
  const main = document.getElementById("things");
  const cards = found.things.map((thing) => {
    const old = before.get(thing.name);
    return old && old.form === form(thing) ? kept(old, thing) : card(thing);
  });
  if (cards.length !== main.childElementCount || cards.some((box, at) => main.children[at] !== box) || !cards.length)
    main.replaceChildren(...(cards.length ? cards : [empty]));
  document.getElementById("count").textContent = found.all ? `${found.there} of ${found.all} online` : "";
  lost(found.broker ? found.trouble : "the broker is away; what it keeps comes when it is back");
  pager(found); sift(); told();
  follow(found.things.map((each) => each.name));
}

// Not oftener than every three seconds, however many devices come or go.
function soon() {
  if (!later) later = setTimeout(all, Date.now() - last > 3000 ? 300 : 3000);
  last = Date.now();
}
let last = 0;

function follow(names) {
  const query = names.map((each) => `of=${encodeURIComponent(each)}`).join("&");
  if (source && following === query) return;
  if (source) source.close();
  following = query;
  source = new EventSource(`/changes?${query}`);
  let opened = false;
  source.onopen = () => { if (opened) all(); opened = true; };
  source.onmessage = (event) => change(JSON.parse(event.data));
  source.onerror = () => lost("the hub does not answer; trying again");
}

function lost(text) {
  const box = document.getElementById("lost");
  box.textContent = text;
  box.hidden = !text;
}

function change(each) {
  if (each.what === "thing" || each.what === "gone") { soon(); return; }
  if (each.what === "alert") alerts.set(each.name, {name: each.name, text: each.value, at: each.at});
  if (each.what === "over") alerts.delete(each.name);
  if (each.what === "value") {
    const row = rows.get(each.name);
    const [name, rest] = each.name.split(/\.(.*)/);
    if (row) {
      if (row.at === null) soon(); // it leaves the fold
      row.tell("");
      row.put(each.value, each.at, false);
    } else if (rest === "state" && things.has(name)) { online(things.get(name), each.value === "online"); soon(); }
  } else if (each.what !== "event") told();
}

let typing = 0;
document.getElementById("find").addEventListener("input", () => {
  sift();
  clearTimeout(typing);
  typing = setTimeout(() => { page = 0; all(); }, 250);
});
setInterval(() => { rows.forEach((row) => row.tick()); }, 1000);
all().catch(() => { lost("the hub does not answer; trying again"); setTimeout(() => location.reload(), 5000); });
