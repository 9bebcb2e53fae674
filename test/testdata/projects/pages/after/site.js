addEventListener("click", () => import("./departures.js"))
