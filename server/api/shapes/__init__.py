"""The shapes of requests and answers, by theme; the typed client of the front end is generated from them."""
