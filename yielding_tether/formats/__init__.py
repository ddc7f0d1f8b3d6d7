"""Readers and writers, one file format each: bytes in, core objects out."""

from __future__ import annotations


class FormatError(ValueError):
    """A file that can't be read: names the line, the token and what was expected."""

    def __init__(self, message: str, line: int | None = None, token: str | None = None) -> None:
        self.line = line
        self.token = token
        where = f"Line {line}" if line is not None else "The file"
        at = f", at {token[:40]!r}" if token else ""
        super().__init__(f"{where}{at}: {message}")
