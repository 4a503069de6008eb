"""A folder as it was in a commit of its Git repository."""

from __future__ import annotations

import io
import subprocess
import tarfile
from pathlib import Path

from pribble.cli.common import Usage


def repository_of(folder: Path) -> Path:
    """Returns the root of the repository that a folder is in."""
    said = _git(folder, "rev-parse", "--show-toplevel")
    return Path(said.decode("utf-8", "surrogateescape").rstrip("\n"))


def commit_of(folder: Path, revision: str) -> str:
    """Returns the hash of a commit, by any name that Git has for it."""
    said = _git(folder, "rev-parse", "--verify", "--quiet", "--end-of-options", f"{revision}^{{commit}}")
    return said.decode("ascii").strip()


def folder_at(folder: Path, commit: str, into: Path) -> Path:
    """Writes a folder as it was in a commit below `into`, and returns where; it may not have been there."""
    below = folder.resolve().relative_to(repository_of(folder).resolve()).as_posix()
    made = into / below
    listed = _git(folder, "ls-tree", "-d", "--name-only", "--full-tree", commit, below) if below != "." else b"."
    if not listed.strip():
        raise Usage(f"{folder} is not in commit {commit[:10]}")
    paths = [] if below == "." else [below]
    archive = _git(repository_of(folder), "archive", "--format=tar", commit, "--", *paths)
    with tarfile.open(fileobj=io.BytesIO(archive)) as files:
        files.extractall(into, filter="data")
    return made


def _git(folder: Path, *arguments: str) -> bytes:
    try:
        done = subprocess.run(["git", "-C", str(folder), *arguments], capture_output=True, check=False, timeout=120)
    except FileNotFoundError:
        raise Usage("--git needs git, which is not installed") from None
    if done.returncode:
        said = done.stderr.decode("utf-8", "replace").strip().splitlines()
        raise Usage(f"git {arguments[0]}: {said[0] if said else 'there is no such commit'}")
    return done.stdout
