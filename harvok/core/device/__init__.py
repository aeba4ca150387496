"""The device under test as something that can be asked: what it is, what it counted, and what follows from that."""
