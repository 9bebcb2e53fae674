// The board on the first page: the next departures from Corvane, by the clock of whoever looks.
const departures = [
  ["06:40", "Oskra", "Turnstone"], ["07:15", "Lindmouth", "Dunlin"], ["08:30", "Velley", "Sandling"],
  ["09:20", "Oskra and Tamsel", "Turnstone"], ["10:45", "Lindmouth", "Dunlin"], ["12:10", "Harrow Skerry", "Sandling"],
  ["13:30", "Oskra", "Turnstone"], ["14:15", "Lindmouth", "Dunlin"], ["15:40", "Velley", "Sandling"],
  ["16:50", "Oskra and Tamsel", "Turnstone"], ["18:05", "Lindmouth", "Dunlin"], ["19:30", "Oskra", "Turnstone"],
];

function showBoard(board) {
  const now = new Date().toTimeString().slice(0, 5);
  const later = departures.filter(([time]) => time > now);
  const shown = [...later, ...departures].slice(0, 4);
  board.querySelector("ol").replaceChildren(...shown.map(([time, to, boat], i) => {
    const row = document.createElement("li");
    for (const [tag, text] of [["time", time], ["span", to + (i >= later.length ? " (tomorrow)" : "")], ["span", boat]]) {
      const cell = row.appendChild(document.createElement(tag));
      cell.textContent = text;
    }
    row.lastChild.className = "boat";
    return row;
  }));
}

const board = document.querySelector(".board");
if (board) showBoard(board);
