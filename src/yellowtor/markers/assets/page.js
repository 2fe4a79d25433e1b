"use strict";
// What the page knows, and how one record is shown.
const DATA = JSON.parse(document.getElementById("data").textContent);
const VIEW = DATA.view, TEXT = VIEW.texts;
const escape = text => text == null ? "" : String(text).replace(/[&<>"']/g, c => `&#${c.charCodeAt(0)};`);
const say = (name, count) => TEXT[name].replace("{}", count.toLocaleString(VIEW.language));
const get = (name, at) => { const column = DATA.columns[name]; return column.words ? column.words[column.at[at]] : column[at]; };
const everything = [...Array(DATA.count).keys()];
const hasPlace = at => get("$lat", at) !== null;
const placeOf = at => [get("$lat", at), get("$lon", at)];
const nameOf = at => get("$name", at) || get("$key", at);
const lookOf = at => DATA.looks[get("$look", at)];

function drawing(look) {
  if (look.icon) return `<img class="mark" alt="" src="${escape(look.icon)}">`;
  const turn = look.turn ? ` transform="rotate(${Number(look.turn)} 10 10)"` : "";
  const low = look.shape === "triangle" ? 15 : 14;
  const text = look.text ? `<text x="10" y="${low}" fill="${escape(look.text_colour)}" ${look.text.length > 2 ? 'textLength="15" lengthAdjust="spacingAndGlyphs"' : ""}>${escape(look.text)}</text>` : "";
  return `<svg class="mark" viewBox="0 0 20 20" aria-hidden="true"><path d="${DATA.paths[look.shape]}" fill="${escape(look.colour)}"${turn}/>${text}</svg>`;
}

const EARTH_M = 6371008.8, RADIANS = Math.PI / 180;
function metres(one, other) {
  const half = Math.sin((other[0] - one[0]) * RADIANS / 2) ** 2 +
    Math.cos(one[0] * RADIANS) * Math.cos(other[0] * RADIANS) * Math.sin((other[1] - one[1]) * RADIANS / 2) ** 2;
  return 2 * EARTH_M * Math.asin(Math.min(1, Math.sqrt(half)));
}
const length = m => m < 1000 ? `${Math.round(m)} m` : `${(m / 1000).toLocaleString(VIEW.language, { maximumFractionDigits: m < 10000 ? 2 : 1 })} km`;

function nearest(at, count) {
  const here = placeOf(at), found = [];
  for (let other = 0; other < DATA.count; other++) {
    if (other === at || !hasPlace(other)) continue;
    const away = metres(here, placeOf(other));
    if (found.length === count && away >= found[count - 1][0]) continue;
    found.push([away, other]);
    found.sort((a, b) => a[0] - b[0]);
    if (found.length > count) found.pop();
  }
  return found;
}

// Only http and https addresses become links; everything else stays text.
const linked = text => escape(text).replace(/^https?:\/\/[^\s<>]+$/, href => `<a href="${href}" target="_blank" rel="noopener noreferrer">${href}</a>`);

function aligned(at) {
  const parts = DATA.aligned[at] || [];
  const word = ([text, explained]) => explained >= 0.97 ? escape(text) :
    `<mark class="${explained < 0.7 ? "open" : "near"}" title="${escape(explained < 0.7 ? TEXT.not_explained : TEXT.partly_explained)}">${escape(text)}</mark>`;
  const row = p => `<tr><th scope="row">${escape(p.part)}</th><td>${p.asked.map(word).join(" ") || "–"}</td>` +
    `<td>${escape(p.answered) || "–"}</td><td>${escape(p.agreement)}</td></tr>`;
  return parts.length ? `<table><thead><tr><th></th><th scope="col">${escape(TEXT.asked)}</th><th scope="col">${escape(TEXT.answered)}</th><th></th></tr></thead>` +
    `<tbody>${parts.map(row).join("")}</tbody></table>` : "";
}

function picture(at) {
  const address = VIEW.picture && get(VIEW.picture, at);
  if (!address) return "";
  return /^data:image\//.test(address) ? `<img class="picture" alt="" src="${escape(address)}">` : `<p>${linked(address)}</p>`;
}

function popup(at) {
  const line = (label, value) => value ? `<dt>${escape(label)}</dt><dd>${value}</dd>` : "";
  const confidence = get("$confidence", at);
  const sure = confidence === null ? "" : `<meter value="${confidence}"></meter>${confidence.toFixed(2)} <small>(${escape(get("$basis", at))})</small>`;
  const reasons = get("$reasons", at).split("\n").filter(Boolean).map(r => `<li>${escape(r)}</li>`).join("");
  const outcome = get("$outcome", at), description = get("$description", at);
  const [lat, lon] = hasPlace(at) ? placeOf(at) : [];
  const uncertainty = get("$uncertainty", at);
  const position = hasPlace(at) ? `${lat}, ${lon} <button class="small" data-copy="${lat}, ${lon}">${escape(TEXT.copy)}</button> ` +
    `<a href="geo:${lat},${lon}${uncertainty ? `;u=${uncertainty}` : ""}">${escape(TEXT.open_in)}</a>` : escape(TEXT.no_position);
  const near = hasPlace(at) ? nearest(at, 5).map(([away, other]) =>
    `<button class="near" data-go="${other}"><span>${escape(nameOf(other))}</span><span>${length(away)}</span></button>`).join("") : "";
  const columns = DATA.shown.map(name => line(name, linked(get(name, at)))).join("");
  return `<div class="popup" data-at="${at}" role="region" aria-live="polite" aria-label="${escape(nameOf(at))}"><h2>${drawing(lookOf(at))}${escape(nameOf(at))}</h2>${picture(at)}` +
    `${description ? `<p>${escape(description)}</p>` : ""}<dl>${columns}` +
    line(TEXT.outcome, `<span title="${escape(DATA.meanings[outcome])}">${escape(TEXT[outcome])}</span>`) +
    line(TEXT.asked, escape(get("$asked", at))) + line(TEXT.matched, escape(get("$matched", at))) + line(TEXT.level, escape(get("$level", at))) +
    line(TEXT.confidence, sure) + line(TEXT.reasons, reasons && `<ul>${reasons}</ul>`) + line(TEXT.position, position) + line(TEXT.nearest, near) +
    `</dl>${aligned(at)}${DATA.attribution ? `<p class="credit">${escape(DATA.attribution)}</p>` : ""}</div>`;
}

async function copy(button) {
  try { await navigator.clipboard.writeText(button.dataset.copy); } catch {
    const field = Object.assign(document.createElement("textarea"), { value: button.dataset.copy });
    document.body.append(field);
    field.select();
    document.execCommand("copy");
    field.remove();
  }
  button.textContent = TEXT.copied;
  setTimeout(() => { button.textContent = TEXT.copy; }, 2000);
}
