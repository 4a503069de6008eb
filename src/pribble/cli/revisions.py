"""A folder as it was in a commit of its Git repository."""

from __future__ import annotations

import os
import subprocess
from pathlib import Path

from pribble.cli.command_line import Usage

# What Git sets for its hooks: they are about another command than ours.
_OF_HOOKS = frozenset(
    "GIT_DIR GIT_WORK_TREE GIT_COMMON_DIR GIT_INDEX_FILE GIT_OBJECT_DIRECTORY GIT_PREFIX GIT_NAMESPACE".split()
)
_SECONDS = 300


def repository_of(folder: Path) -> Path:
    """Returns the root of the repository that a folder is in."""
    said = _git(folder, "rev-parse", "--show-toplevel")
    return Path(os.fsdecode(said).rstrip("\n"))


def commit_of(folder: Path, revision: str) -> str:
    """Returns the hash of a commit, by any name that Git has for it."""
    repository_of(folder)
    try:
        said = _git(folder, "rev-parse", "--verify", "--quiet", "--end-of-options", f"{revision}^{{commit}}")
    except Usage:
        raise Usage(f'there is no commit "{revision[:100]}"') from None
    return said.decode("ascii").strip()


def folder_at(folder: Path, commit: str, into: Path) -> Path:
    """Writes a folder as a checkout of a commit would, below `into`, and returns where.  The repository and its index
    stay as they are."""
    root = repository_of(folder)
    below = folder.resolve().relative_to(root.resolve())
    into.mkdir()
    index = str((into / "index").absolute())
    _git(root, "read-tree", commit, index=index)
    listed = _git(root, "--literal-pathspecs", "ls-files", "-z", "--", str(below), index=index)
    if not listed:
        raise Usage(f"{folder} is not in commit {commit[:10]}")
    files = into / "files"
    _git(root, "checkout-index", "-z", "--stdin", f"--prefix={files.absolute()}/", index=index, given=listed)
    return files / below


def _git(folder: Path, *arguments: str, index: str | None = None, given: bytes = b"") -> bytes:
    environment = {name: value for name, value in os.environ.items() if name not in _OF_HOOKS}
    if index is not None:
        environment["GIT_INDEX_FILE"] = index
    command = ["git", "-C", str(folder), *arguments]
    try:
        done = subprocess.run(command, input=given, capture_output=True, timeout=_SECONDS, env=environment, check=False)
    except FileNotFoundError:
        raise Usage("--git needs git, which is not installed") from None
    except subprocess.TimeoutExpired:
        raise Usage(f"git {arguments[0]} has not ended after {_SECONDS} seconds") from None
    if done.returncode:
        said = done.stderr.decode("utf-8", "replace").strip().splitlines()
        raise Usage(f"git {arguments[0]}: {said[0] if said else 'it failed'}")
    return done.stdout
