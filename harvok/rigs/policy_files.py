"""Policies from files."""

from pathlib import Path

from harvok.core.app.policy_file import POLICY_FILE, PolicyFile
from harvok.errors import PolicyError
from harvok.rigs.files import read_toml

_HINT = "docs/policies.md has a policy to start from, with every key."


def read_policy(path: Path) -> PolicyFile:
    """The policy in a file. Raises PolicyError, naming line and key."""
    return read_toml(path, POLICY_FILE, "policy", _HINT, PolicyError)
