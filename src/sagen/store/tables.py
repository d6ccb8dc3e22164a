"""Tables of the job log. Every change here needs a migration in `migrations/versions`."""

from __future__ import annotations

from datetime import UTC, datetime

from sqlalchemy import JSON, Boolean, DateTime, ForeignKey, Integer, String
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column


class Base(DeclarativeBase):
    pass


def _now() -> datetime:
    return datetime.now(UTC).replace(tzinfo=None)


class JobRow(Base):
    """A job, with the columns that the list of jobs shows kept beside it: they change with each entry."""

    __tablename__ = "job"

    id: Mapped[int] = mapped_column(Integer, primary_key=True)
    created: Mapped[datetime] = mapped_column(DateTime, default=_now)
    machine: Mapped[str] = mapped_column(String(200))
    owner: Mapped[str] = mapped_column(String(200), default="")
    cylinders: Mapped[int | None] = mapped_column(Integer, nullable=True)
    withdrawn: Mapped[bool] = mapped_column(Boolean, default=False)
    about: Mapped[str] = mapped_column(String(400), default="")
    entries: Mapped[int] = mapped_column(Integer, default=0)
    stage: Mapped[str] = mapped_column(String(20), default="open")


class EntryRow(Base):
    __tablename__ = "entry"

    id: Mapped[int] = mapped_column(Integer, primary_key=True)
    job_id: Mapped[int] = mapped_column(ForeignKey("job.id"), index=True)
    kind: Mapped[str] = mapped_column(String(20))
    version: Mapped[int] = mapped_column(Integer, default=1)
    created: Mapped[datetime] = mapped_column(DateTime, default=_now)
    data: Mapped[dict] = mapped_column(JSON)
    withdrawn: Mapped[bool] = mapped_column(Boolean, default=False)


class KeptRow(Base):
    """What is kept on the shelf for the next job: a machine card, a known-good capture. A newer one of the same name takes
    the place of the older, which stays, withdrawn."""

    __tablename__ = "kept"

    id: Mapped[int] = mapped_column(Integer, primary_key=True)
    kind: Mapped[str] = mapped_column(String(20), index=True)
    name: Mapped[str] = mapped_column(String(200))
    version: Mapped[int] = mapped_column(Integer, default=1)
    created: Mapped[datetime] = mapped_column(DateTime, default=_now)
    data: Mapped[dict] = mapped_column(JSON)
    withdrawn: Mapped[bool] = mapped_column(Boolean, default=False)
