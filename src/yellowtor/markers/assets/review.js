"use strict";
// What the page knows: the addresses to decide about, and how an answer is shown.
const DATA = JSON.parse(document.getElementById("data").textContent);
const ITEMS = DATA.items, BY_ID = new Map(ITEMS.map((item, at) => [item.id, at]));
const element = id => document.getElementById(id);
const escape = text => text == null ? "" : String(text).replace(/[&<>"']/g, c => `&#${c.charCodeAt(0)};`);
const counted = (count, one, many) => `${count.toLocaleString("en")} ${count === 1 ? one : many}`;
const length = m => m < 1000 ? `${Math.round(m)} m` : `${(m / 1000).toFixed(1)} km`;
const groupOf = item => DATA.groups[item.group];
const inGroup = item => ITEMS.filter(other => other.group === item.group);

// Coordinates as people type them: decimal degrees with a point or a comma, degrees with minutes and seconds, geo: URIs.
const MARK = { N: 1, S: -1, E: 1, W: -1 };
function angle(text) {
  const found = /^([NSEW])?\s*([+\-−]?)(\d+(?:[.,]\d+)?)\s*[°º]?\s*(?:(\d+(?:[.,]\d+)?)\s*['′’])?\s*(?:(\d+(?:[.,]\d+)?)\s*(?:["″”]|''))?\s*([NSEW])?$/i.exec(text.trim());
  if (!found || (found[1] && found[6])) return null;
  const [degrees, minutes, seconds] = [found[3], found[4], found[5]].map(part => Number((part || "0").replace(",", ".")));
  if (minutes >= 60 || seconds >= 60) return null;
  const side = (found[1] || found[6] || "").toUpperCase();
  if (side && found[2]) return null;
  const sign = side ? MARK[side] : /[\-−]/.test(found[2]) ? -1 : 1;
  return { value: sign * (degrees + minutes / 60 + seconds / 3600), axis: side ? ("NS".includes(side) ? "lat" : "lon") : "" };
}
function readPlace(typed) {
  const text = typed.trim().replace(/^geo:([^;]*)(?:;.*)?$/i, "$1").replace(/^[([]\s*(.*?)\s*[)\]]$/, "$1");
  const ways = [text.split(";"), text.split(/,\s+/), text.split(","), text.split(/\s+/), text.split(/(?<=[NSEW])\s+(?=[^NSEW])/i)];
  for (const parts of ways) {
    if (parts.length !== 2) continue;
    let [one, other] = parts.map(angle);
    if (!one || !other) continue;
    if (one.axis === "lon" || other.axis === "lat") { if (one.axis !== "lon" || other.axis === "lon") continue; [one, other] = [other, one]; }
    if (Math.abs(one.value) <= 90 && Math.abs(other.value) <= 180 && (Math.abs(one.value) > 0.001 || Math.abs(other.value) > 0.001))
      return [Number(one.value.toFixed(6)), Number(other.value.toFixed(6))];
  }
  return null;
}

const words = offer => offer.words.map(([word, known]) => known ? escape(word) : `<mark title="not as in the address">${escape(word)}</mark>`).join(" ");
function offerHtml(offer, chosen) {
  const differ = offer.differences.map(([part, asked, answered]) => `${escape(part)}: ${escape(asked || "–")} → <mark>${escape(answered || "–")}</mark>`).join("<br>");
  const facts = [offer.level, `confidence ${offer.confidence.toFixed(2)}`, offer.letter === "a" ? "" : `${length(offer.away)} from a`, offer.service].filter(Boolean);
  return `<button type="button" class="offer${chosen ? " chosen" : ""}" data-letter="${offer.letter}"><b>${offer.letter}</b><span class="text">${words(offer)}</span>` +
    `${differ ? `<span class="differ">${differ}</span>` : ""}<span class="facts">${escape(facts.join(" · "))}</span></button>`;
}
