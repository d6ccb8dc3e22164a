"""Captures and photos on a database server: each file once by its SHA-256, as a large object; a copy here, once asked for."""

from __future__ import annotations

import hashlib
import os
import shutil
from collections.abc import Iterator
from pathlib import Path

from sqlalchemy import delete, func, select, text
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.engine import Engine
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.orm import Session

from sagen.model.errors import StoreError
from sagen.model.language import tr
from sagen.store.captures import PHOTO, SUMS, TOKEN, CaptureStore
from sagen.store.database import Unreachable, is_loss, plain
from sagen.store.tables import ContentRow, PieceRow

CHUNK = 4 << 20


class ServerCaptures(CaptureStore):
    """The captures of a log on a server: a folder here that is filled from the database when something is asked for, and
    whose new captures go to the database in the transaction of the entry that names them (`send`)."""

    def __init__(self, root: Path, engine: Engine):
        super().__init__(root)
        self._engine = engine

    # there ------------------------------------------------------------------------------------

    def send(self, session: Session, tokens: set[str]) -> set[str]:
        """Put captures and photos that lie here, and are not there yet, into the database, within `session`'s transaction."""
        if not tokens:
            return tokens
        there = set(session.scalars(select(PieceRow.token).where(PieceRow.token.in_(tokens)).distinct()))
        for token in sorted(tokens - there):
            for name, path in self._files(token):
                sha = self._put(session, path)
                session.execute(insert(PieceRow).values(token=token, name=name, sha=sha).on_conflict_do_nothing())
        return tokens

    def _files(self, token: str) -> Iterator[tuple[str, Path]]:
        if PHOTO.fullmatch(token):
            if (path := self.photo_path(token)).is_file():
                yield path.name, path
        elif TOKEN.fullmatch(token) and (self.folder / token / SUMS).is_file():
            yield from (
                (this_path.name, this_path)
                for this_path in sorted((self.folder / token).iterdir())
                if self.is_kept(this_path)
            )

    def _put(self, session: Session, path: Path) -> str:
        with path.open("rb") as stream:
            sha = hashlib.file_digest(stream, "sha256").hexdigest()
        if session.get(ContentRow, sha) is not None:
            return sha
        made = session.scalar(text("select lo_create(0)"))
        size = 0
        with path.open("rb") as stream:
            while chunk := stream.read(CHUNK):
                session.execute(text("select lo_put(:of, :at, :chunk)"), {"of": made, "at": size, "chunk": chunk})
                size += len(chunk)
        row = {"sha": sha, "object": made, "size": size}
        taken = session.execute(
            insert(ContentRow).values(row).on_conflict_do_nothing().returning(ContentRow.sha)
        ).first()
        if taken is None:  # another bay was faster with the same
            session.execute(text("select lo_unlink(:of)"), {"of": made})
        return sha

    # here -------------------------------------------------------------------------------------

    def bring(self, token: str) -> bool:
        """Have a capture or a photo here; False where the database has none of it either.

        Raises
        ------
        Unreachable
            when it is not here and the server does not answer.
        StoreError
            when it is not what was kept, or the disk refuses.
        """
        if super().bring(token):
            return True
        lease = None
        try:
            photo = PHOTO.fullmatch(token) is not None
            lease = (self._photos if photo else self._captures).begin(f"{token}.jpg" if photo else token)
            with Session(self._engine) as session:
                pieces = session.execute(select(PieceRow.name, PieceRow.sha).where(PieceRow.token == token)).all()
                if not pieces:
                    return False
                if photo:
                    self._take(session, pieces[0].sha, lease.part)
                else:
                    lease.part.mkdir()
                    for name, sha in pieces:
                        self._take(session, sha, lease.part / Path(name).name)
            if not super().bring(token):  # another window of this bay may have brought it meanwhile
                lease.publish()
        except SQLAlchemyError as error:
            kind = Unreachable if is_loss(error) else StoreError
            raise kind(
                tr("the capture {token} cannot be fetched: {error}", token=token[:12], error=plain(error))
            ) from error
        except OSError as error:
            if not super().bring(token):
                raise StoreError(
                    tr(
                        "the capture {token} cannot be kept here: {strerror}",
                        token=token[:12],
                        strerror=error.strerror or error,
                    )
                ) from None
        finally:
            if lease is not None:
                shutil.rmtree(lease.part, ignore_errors=True)
                lease.part.unlink(missing_ok=True)
                lease.commit()
        return True

    def _take(self, session: Session, sha: str, path: Path) -> None:
        content = session.get(ContentRow, sha)
        told = hashlib.sha256()
        with path.open("wb") as stream:
            for chunk in _chunks(session, content):
                told.update(chunk)
                stream.write(chunk)
            stream.flush()
            os.fsync(stream.fileno())
        if told.hexdigest() != sha:
            raise StoreError(
                tr("{name} of a capture in the database is not what was kept: silent damage", name=path.name)
            )

    # both -------------------------------------------------------------------------------------

    def tokens(self) -> list[str]:
        return self._tokens(32)

    def photos(self) -> list[str]:
        return self._tokens(64)

    def _tokens(self, length: int) -> list[str]:
        chosen = select(PieceRow.token).where(func.length(PieceRow.token) == length).distinct()
        with Session(self._engine) as session:
            return sorted(session.scalars(chosen))

    def wrong(self, token: str) -> list[str] | None:
        wrong = []
        with Session(self._engine) as session:
            for name, sha in session.execute(select(PieceRow.name, PieceRow.sha).where(PieceRow.token == token)).all():
                told = hashlib.sha256()
                for chunk in _chunks(session, session.get(ContentRow, sha)):
                    told.update(chunk)
                if told.hexdigest() != sha:
                    wrong.append(name)
        return wrong

    def remove(self, token: str) -> None:
        super().remove(token)
        with Session(self._engine) as session:
            session.execute(delete(PieceRow).where(PieceRow.token == token))
            used = select(PieceRow.sha).where(PieceRow.sha == ContentRow.sha).exists()
            for row in session.execute(delete(ContentRow).where(~used).returning(ContentRow.object)).scalars():
                session.execute(text("select lo_unlink(:of)"), {"of": row})
            session.commit()


def _chunks(session: Session, content: ContentRow) -> Iterator[bytes]:
    for at in range(0, content.size, CHUNK):
        yield bytes(
            session.scalar(text("select lo_get(:of, :at, :count)"), {"of": content.object, "at": at, "count": CHUNK})
        )
