document.title = "Departures"
