document.title = "Departures, all"
