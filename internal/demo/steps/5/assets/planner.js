// The journey planner: all lines begin or end in Corvane, so a journey is one leg or two.
const legs = [
  ["Corvane", "Oskra", "07:40", "08:25"], ["Oskra", "Corvane", "08:40", "09:25"], ["Corvane", "Oskra", "11:30", "12:15"],
  ["Oskra", "Corvane", "13:20", "14:05"], ["Corvane", "Tamsel", "11:30", "13:00"], ["Tamsel", "Corvane", "13:10", "14:35"],
  ["Corvane", "Velley", "09:00", "09:40"], ["Velley", "Corvane", "09:50", "10:30"], ["Corvane", "Velley", "15:10", "15:50"],
  ["Velley", "Corvane", "16:00", "16:40"], ["Corvane", "Lindmouth", "07:15", "08:50"], ["Lindmouth", "Corvane", "09:20", "10:55"],
  ["Corvane", "Lindmouth", "14:15", "15:50"], ["Lindmouth", "Corvane", "16:20", "17:55"], ["Corvane", "Oskra", "16:30", "17:15"],
];
const places = [...new Set(legs.flat().filter((word) => !word.includes(":")))];

function journeys(from, to, earliest) {
  const found = [];
  for (const first of legs) {
    if (first[0] !== from || first[2] < earliest) continue;
    if (first[1] === to) found.push([first]);
    for (const second of legs) {
      if (first[1] === second[0] && second[1] === to && second[2] >= first[3]) found.push([first, second]);
    }
  }
  return found.sort((a, b) => a.at(-1)[3].localeCompare(b.at(-1)[3])).slice(0, 4);
}

const form = document.querySelector(".planner");
// A journey has an address of its own: /planner/velley/lindmouth. Nothing lies there; the page is the same.
const named = location.pathname.split("/").slice(-2).map((word) => places.find((place) => place.toLowerCase() === word));
const asked = named[0] && named[1] ? named : ["Velley", "Lindmouth"];
for (const [name, chosen] of [["from", asked[0]], ["to", asked[1]]]) {
  form.elements[name].append(...places.map((place) => new Option(place, place, false, place === chosen)));
}
function show() {
  const { from, to, time } = form.elements;
  const list = journeys(from.value, to.value, time.value);
  const rows = list.map((legs) => `<tr><td>${legs[0][2]}</td><td>${legs.at(-1)[3]}</td><td>${legs.map((leg) => `${leg[0]} ${leg[2]} – ${leg[1]} ${leg[3]}`).join("<br>")}</td></tr>`);
  document.querySelector("#journeys").innerHTML = rows.length
    ? `<table><thead><tr><th>Leaves</th><th>Arrives</th><th>Legs</th></tr></thead><tbody>${rows.join("")}</tbody></table>`
    : "<p>No boat goes there any more today. Oskra has a good bakery.</p>";
}
form.addEventListener("submit", (event) => { event.preventDefault(); show(); history.replaceState(null, "", `/planner/${form.elements.from.value}/${form.elements.to.value}`.toLowerCase()); });
show();
