"""The labels of figures: in which order they stand, and how each is shown. Nothing reads them back out of text."""

from collections.abc import Iterable, Mapping

_ORDER = (
    "case", "object", "level", "users", "application", "action", "service", "stream", "direction", "frame-size",
    "speed", "load", "flow",
)  # fmt: skip
"""Labels that are known, in the order in which people read them; all others follow by name."""


def sort_labels(names: Iterable[str]) -> list[str]:
    """The names of labels, each once, in the order in which they are shown."""
    return sorted(set(names), key=lambda name: (_ORDER.index(name) if name in _ORDER else len(_ORDER), name))


def label_text(labels: Mapping[str, str]) -> str:
    """What a figure is of, in words, with every label that it has: `voice, send, 64 B, 90 %`."""
    return ", ".join(_shown(name, labels[name]) for name in sort_labels(labels) if labels[name])


def size_text(frame_size: str) -> str:
    """A frame size with its unit; the name of a mix as it is."""
    return f"{frame_size} B" if frame_size.isdigit() else frame_size


def _shown(name: str, value: str) -> str:
    if name == "frame-size":
        return size_text(value)
    if name == "users":
        return f"users at the {value} end"
    return f"flow {value}" if name == "flow" else value
