"""How numbers of each sort of table came to be: what `trace` shows."""
