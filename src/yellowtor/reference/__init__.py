"""Reference tables: an index of their addresses and places, and the search for messy questions in it. No network."""
