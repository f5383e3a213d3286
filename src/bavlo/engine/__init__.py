"""How work is done: cut into blocks and segments, by threads or on a cluster, within a memory."""
