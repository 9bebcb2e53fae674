addEventListener("click", () => import("./board.js"))
