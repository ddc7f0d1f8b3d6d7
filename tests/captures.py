"""Captures as long as one likes."""

from __future__ import annotations


def prolonged(text: bytes, frames: int) -> bytes:
    """A capture with its motion again and again."""
    head, rows = text.split(b"Frame Time", 1)
    period, _, body = rows.partition(b"\n")
    lines = body.strip().split(b"\n")
    many = (lines * (frames // len(lines) + 1))[:frames]
    head = head[: head.rindex(b"Frames:")] + b"Frames: %d\n" % frames
    return head + b"Frame Time" + period + b"\n" + b"\n".join(many) + b"\n"
