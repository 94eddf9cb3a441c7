"""SQLAlchemy tables. The newest migration and this module describe the same schema; a test compares them."""

from __future__ import annotations

from sqlalchemy import ForeignKey, Index, Integer, LargeBinary, String
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column


class Base(DeclarativeBase):
    pass


class ProjectRow(Base):
    """A project and the revision it stands at. Times are ISO 8601 in UTC."""

    __tablename__ = "project"

    id: Mapped[str] = mapped_column(String(32), primary_key=True)
    name: Mapped[str] = mapped_column(String(120))
    created_at: Mapped[str] = mapped_column(String(32))
    modified_at: Mapped[str] = mapped_column(String(32))
    removed_at: Mapped[str | None] = mapped_column(String(32))
    revision: Mapped[int] = mapped_column(Integer)


class JournalRow(Base):
    """One group of changes, applied as one. ``changes`` and ``inverse`` are JSON lists of changes."""

    __tablename__ = "journal"
    __table_args__ = (Index("journal_by_key", "project_id", "key", unique=True),)

    project_id: Mapped[str] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), primary_key=True)
    revision: Mapped[int] = mapped_column(Integer, primary_key=True)
    at: Mapped[str] = mapped_column(String(32))
    label: Mapped[str] = mapped_column(String(200))
    kind: Mapped[str] = mapped_column(String(8))
    target: Mapped[int | None] = mapped_column(Integer)
    changes: Mapped[bytes] = mapped_column(LargeBinary)
    inverse: Mapped[bytes] = mapped_column(LargeBinary)
    key: Mapped[str | None] = mapped_column(String(64))


class SnapshotRow(Base):
    """A whole network at a revision: zlib-compressed JSON list of items, and the seal of who validated them, if any."""

    __tablename__ = "snapshot"
    __table_args__ = (Index("snapshot_by_project", "project_id", "revision"),)

    project_id: Mapped[str] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), primary_key=True)
    revision: Mapped[int] = mapped_column(Integer, primary_key=True)
    items: Mapped[bytes] = mapped_column(LargeBinary)
    seal: Mapped[str | None] = mapped_column(String(64))


class BlobRow(Base):
    """An attached file, once for all projects that hold it, by the hash of its contents."""

    __tablename__ = "blob"

    sha256: Mapped[str] = mapped_column(String(64), primary_key=True)
    size: Mapped[int] = mapped_column(Integer)
    data: Mapped[bytes] = mapped_column(LargeBinary)


class RunRow(Base):
    """A kept run. ``facts``: JSON of options, condition, account, summary, findings and columns; ``tables``: Parquet."""

    __tablename__ = "run"
    __table_args__ = (Index("run_by_project", "project_id", "at"),)

    id: Mapped[str] = mapped_column(String(32), primary_key=True)
    project_id: Mapped[str] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    at: Mapped[str] = mapped_column(String(32))
    study: Mapped[str] = mapped_column(String(40))
    name: Mapped[str] = mapped_column(String(120))
    note: Mapped[str] = mapped_column(String(4000))
    revision: Mapped[int] = mapped_column(Integer)
    condition: Mapped[str] = mapped_column(String(120))
    facts: Mapped[bytes] = mapped_column(LargeBinary)
    tables: Mapped[bytes] = mapped_column(LargeBinary)


class JobRow(Base):
    """A job of the workers. ``about``: JSON of what was asked and how it went; ``facts`` and ``tables``: its result as of a
    kept run, or as much as there is of it."""

    __tablename__ = "job"
    __table_args__ = (Index("job_by_project", "project_id", "at"),)

    id: Mapped[str] = mapped_column(String(32), primary_key=True)
    project_id: Mapped[str] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    at: Mapped[str] = mapped_column(String(32))
    state: Mapped[str] = mapped_column(String(16))
    about: Mapped[bytes] = mapped_column(LargeBinary)
    facts: Mapped[bytes | None] = mapped_column(LargeBinary)
    tables: Mapped[bytes | None] = mapped_column(LargeBinary)
