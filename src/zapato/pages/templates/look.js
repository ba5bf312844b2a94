// Each part of the page is asked for anew when the file was saved; a part that did not change stays as it is.
"use strict";
const state = document.getElementById("state");
let asked = 0;

async function fill(section, round) {
  const answer = await fetch("/part/" + section.dataset.part);
  if (!answer.ok || round !== asked) return;
  const text = await answer.text();
  if (round === asked && section.dataset.text !== text) {
    section.dataset.text = text;
    section.innerHTML = text;
  }
}

async function all() {
  const round = ++asked;
  state.textContent = "drawing";
  try {
    for (const section of document.querySelectorAll("section[data-part]")) {
      await fill(section, round);
      if (round !== asked) return;
    }
    state.textContent = "";
  } catch {
    state.textContent = "zapato look has ended";
  }
}

const changes = new EventSource("/changes");
changes.addEventListener("saved", all);
changes.addEventListener("error", () => { state.textContent = "zapato look has ended, or is out of reach"; });
