"""Rig files of the demo's world, all made up: two switches for the link between dome and hall."""
