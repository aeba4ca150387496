"""Shipped with Harvok for its own tests and benchmarks, and for those who add a rig or a kind of traffic."""
