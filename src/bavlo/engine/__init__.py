"""How work is done: cut into units and segments, by threads or on a cluster, within a memory."""
