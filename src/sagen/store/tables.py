"""Tables of the job log. Every change here needs a migration in `migrations/versions`."""

from __future__ import annotations

import json
from datetime import UTC, datetime

from sqlalchemy import BigInteger, Boolean, DateTime, ForeignKey, Integer, String, Text, TypeDecorator, false
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column


class JsonText(TypeDecorator):
    """Plain data as JSON text: the same letters in every database, so that a checksum of them holds everywhere."""

    impl = Text
    cache_ok = True

    def process_bind_param(self, value, dialect):
        return json.dumps(value)

    def process_result_value(self, value, dialect):
        return json.loads(value)


class Base(DeclarativeBase):
    pass


def now() -> datetime:
    """The time that rows carry: UTC."""
    return datetime.now(UTC).replace(tzinfo=None)


class AboutRow(Base):
    """What a log knows of itself: its identity."""

    __tablename__ = "about"

    name: Mapped[str] = mapped_column(String(40), primary_key=True)
    value: Mapped[str] = mapped_column(String(200))


class JobRow(Base):
    """A job, with the columns that the list of jobs shows kept beside it: they change with each entry."""

    __tablename__ = "job"

    id: Mapped[int] = mapped_column(Integer, primary_key=True)
    created: Mapped[datetime] = mapped_column(DateTime, default=now)
    machine: Mapped[str] = mapped_column(String(200))
    owner: Mapped[str] = mapped_column(String(200), default="")
    cylinders: Mapped[int | None] = mapped_column(Integer, nullable=True)
    withdrawn: Mapped[bool] = mapped_column(Boolean, default=False, server_default=false())
    about: Mapped[str] = mapped_column(String(400), default="", server_default="")
    entries: Mapped[int] = mapped_column(Integer, default=0, server_default="0")
    stage: Mapped[str] = mapped_column(String(20), default="open", server_default="open")


class EntryRow(Base):
    """An entry of a trail. `revision` counts its changes; `sum` is the checksum of what it says (`reading.checksum`);
    `mark` is its own, so that what is sent twice is there once; `changer` says who changed it last."""

    __tablename__ = "entry"

    id: Mapped[int] = mapped_column(Integer, primary_key=True)
    job_id: Mapped[int] = mapped_column(ForeignKey("job.id"), index=True)
    kind: Mapped[str] = mapped_column(String(20))
    version: Mapped[int] = mapped_column(Integer, default=1, server_default="1")
    created: Mapped[datetime] = mapped_column(DateTime, default=now)
    data: Mapped[dict] = mapped_column(JsonText)
    withdrawn: Mapped[bool] = mapped_column(Boolean, default=False)
    revision: Mapped[int] = mapped_column(Integer, default=1, server_default="1")
    author: Mapped[str] = mapped_column(String(80), default="", server_default="")
    bay: Mapped[str] = mapped_column(String(80), default="", server_default="")
    changer: Mapped[str] = mapped_column(String(200), default="", server_default="")
    mark: Mapped[str | None] = mapped_column(String(32), nullable=True, index=True, unique=True)
    sum: Mapped[str] = mapped_column(String(64), default="", server_default="")


class KeptRow(Base):
    """What is kept on the shelf for the next job: a machine card, a known-good capture. A newer one of the same name takes
    the place of the older, which stays, withdrawn."""

    __tablename__ = "kept"

    id: Mapped[int] = mapped_column(Integer, primary_key=True)
    kind: Mapped[str] = mapped_column(String(20), index=True)
    name: Mapped[str] = mapped_column(String(200))
    version: Mapped[int] = mapped_column(Integer, default=1, server_default="1")
    created: Mapped[datetime] = mapped_column(DateTime, default=now)
    data: Mapped[dict] = mapped_column(JsonText)
    withdrawn: Mapped[bool] = mapped_column(Boolean, default=False, server_default=false())


class ContentRow(Base):
    """One file's content on a database server, once however many captures have it: a large object by its SHA-256."""

    __tablename__ = "content"

    sha: Mapped[str] = mapped_column(String(64), primary_key=True)
    object: Mapped[int] = mapped_column(BigInteger)
    size: Mapped[int] = mapped_column(BigInteger)


class PieceRow(Base):
    """A file of a capture, or a photo, by its token and name."""

    __tablename__ = "piece"

    token: Mapped[str] = mapped_column(String(64), primary_key=True)
    name: Mapped[str] = mapped_column(String(80), primary_key=True)
    sha: Mapped[str] = mapped_column(ForeignKey("content.sha"), index=True)


class ChangeRow(Base):
    """The last changes of an SQLite log and whose they were, for the other windows on it; a server tells them itself."""

    __tablename__ = "change"

    id: Mapped[int] = mapped_column(Integer, primary_key=True)
    job_id: Mapped[int | None] = mapped_column(Integer, nullable=True)
    whose: Mapped[str] = mapped_column(String(12))
