"""The mailroom over HTTP, for workflows that can call nothing else; needs the extra ``serve``."""

from __future__ import annotations

from pribble.serving.application import application
from pribble.serving.server import Server

__all__ = ["Server", "application"]
