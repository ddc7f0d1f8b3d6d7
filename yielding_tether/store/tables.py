"""Tables. A revision holds which curve each channel has by content, so revisions share what they have in common."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

from sqlalchemy import BigInteger, Column, DateTime, ForeignKey, Index, LargeBinary, text
from sqlalchemy.dialects.postgresql import JSONB
from sqlmodel import Field, SQLModel


def _now() -> datetime:
    return datetime.now(UTC)


def _created() -> Any:
    return Field(default_factory=_now, sa_column=Column(DateTime(timezone=True), nullable=False))


class SceneRow(SQLModel, table=True):
    """A cast and its takes."""

    __tablename__ = "scene"
    id: int | None = Field(default=None, primary_key=True)
    name: str
    created: datetime = _created()


class MemberRow(SQLModel, table=True):
    """A cast member; `body` is a core Member."""

    __tablename__ = "member"
    id: int | None = Field(default=None, primary_key=True)
    scene_id: int = Field(foreign_key="scene.id", index=True, ondelete="CASCADE")
    key: str
    place: int
    body: dict[str, Any] = Field(sa_column=Column(JSONB, nullable=False))


class BlobRow(SQLModel, table=True):
    """Bytes by their SHA-256."""

    __tablename__ = "blob"
    hash: str = Field(primary_key=True)
    data: bytes = Field(sa_column=Column(LargeBinary, nullable=False))


class TakeRow(SQLModel, table=True):
    """A take, its frames as it was opened; `head_id` is the revision it stands at, moved by compare-and-swap."""

    __tablename__ = "take"
    id: int | None = Field(default=None, primary_key=True)
    scene_id: int = Field(foreign_key="scene.id", index=True, ondelete="CASCADE")
    name: str
    rate_numerator: int
    rate_denominator: int
    first: int
    last: int
    created: datetime = _created()
    # The revision refers to its take, so this end is set once both exist.
    head_id: int | None = Field(
        default=None,
        sa_column=Column(
            BigInteger,
            ForeignKey("revision.id", use_alter=True, name="take_head_fkey"),
            nullable=True,
        ),
    )


class CaptureRow(SQLModel, table=True):
    """An immutable capture of one member in a take, as it was opened."""

    __tablename__ = "capture"
    id: int | None = Field(default=None, primary_key=True)
    take_id: int = Field(foreign_key="take.id", index=True, ondelete="CASCADE")
    member: str
    samples: int
    joints: int
    first: float
    step: float
    blob: str = Field(foreign_key="blob.hash")


class RevisionRow(SQLModel, table=True):
    """One state of a take. `curves` maps channels to blobs; `redo_id` is the child that redo goes to; `key`: by what its writer
    knows it, so that what is sent again is written once."""

    __tablename__ = "revision"
    __table_args__ = (
        Index("revision_take_number", "take_id", text("number desc"), unique=True),
        Index("revision_take_key", "take_id", "key", unique=True),
    )
    id: int | None = Field(default=None, sa_column=Column(BigInteger, primary_key=True, autoincrement=True))
    take_id: int = Field(foreign_key="take.id", ondelete="CASCADE")
    parent_id: int | None = Field(default=None, sa_column=Column(BigInteger, ForeignKey("revision.id"), nullable=True))
    redo_id: int | None = Field(default=None, sa_column=Column(BigInteger, nullable=True))
    number: int
    label: str
    name: str | None = None
    key: str | None = None
    created: datetime = _created()
    operation: dict[str, Any] = Field(sa_column=Column(JSONB, nullable=False))
    proof: dict[str, Any] | None = Field(default=None, sa_column=Column(JSONB, nullable=True))
    #: First and last frame, and captures; none: those of the take as it was opened.
    frames: list[int] | None = Field(default=None, sa_column=Column(JSONB(none_as_null=True), nullable=True))
    captures: list[dict[str, Any]] | None = Field(
        default=None, sa_column=Column(JSONB(none_as_null=True), nullable=True)
    )
    curves: dict[str, str] = Field(sa_column=Column(JSONB, nullable=False))
    tethers: list[dict[str, Any]] = Field(sa_column=Column(JSONB, nullable=False))
    #: Keys of the findings that are wanted as they are.
    wanted: list[str] = Field(default=[], sa_column=Column(JSONB, nullable=False, server_default="[]"))
    contacts: list[dict[str, Any]] = Field(default=[], sa_column=Column(JSONB, nullable=False, server_default="[]"))
    anchors: list[dict[str, Any]] = Field(default=[], sa_column=Column(JSONB, nullable=False, server_default="[]"))
    points: list[dict[str, Any]] = Field(default=[], sa_column=Column(JSONB, nullable=False, server_default="[]"))
    #: Layers, with which curve each channel has in them, and their weights, by content.
    layers: list[dict[str, Any]] = Field(default=[], sa_column=Column(JSONB, nullable=False, server_default="[]"))
    values: list[dict[str, Any]] = Field(default=[], sa_column=Column(JSONB, nullable=False, server_default="[]"))
    #: Props that are mirrored themselves.
    flipped: list[str] = Field(default=[], sa_column=Column(JSONB, nullable=False, server_default="[]"))


class ClipRow(SQLModel, table=True):
    """A pose or a range that was copied and kept."""

    __tablename__ = "clip"
    id: int | None = Field(default=None, primary_key=True)
    name: str
    created: datetime = _created()
    body: dict[str, Any] = Field(sa_column=Column(JSONB, nullable=False))
