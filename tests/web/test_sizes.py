"""What is sent is kept no further than it may be, and a file goes through without any process having it whole."""

import asyncio
import errno
import tempfile
import tracemalloc
from itertools import chain

import pytest
from sqlalchemy import func, select
from visitor import Visitor

from zipplumb.serve.web import Server
from zipplumb.store.database import transaction
from zipplumb.store.models import Part, PartFile
from zipplumb.web.sizes import FORM_BYTES

MB = 1024 * 1024
EDGE = b"--edge"
HEAD = EDGE + b'\r\nContent-Disposition: form-data; name="file"; filename="big.step"\r\n\r\n'
TAIL = b"\r\n" + EDGE + b"--\r\n"


@pytest.fixture(scope="module")
def server(stack):
    return Server()


def sends(server, visitor, megabytes, announced=True, path="/parts"):
    """What is answered to a file of so many MB: status, words, and how many bytes were read of it."""
    cookies = "; ".join(f"{c.key}={c.value}" for c in visitor.client._cookies.values())
    headers = {
        "host": "localhost", "cookie": cookies, "x-csrftoken": visitor.token, "accept": "text/html",
        "content-type": "multipart/form-data; boundary=edge",
    }  # fmt: skip
    if announced:
        headers["content-length"] = str(len(HEAD) + megabytes * MB + len(TAIL))
    else:
        headers["transfer-encoding"] = "chunked"
    scope = {
        "type": "http", "http_version": "1.1", "method": "POST", "path": path, "raw_path": path.encode(), "query_string": b"",
        "root_path": "", "scheme": "http", "server": ("localhost", 80), "client": ("10.8.0.1", 5),
        "headers": [(k.encode(), v.encode()) for k, v in headers.items()],
    }  # fmt: skip
    pieces = chain([HEAD], (bytes([65 + k % 20]) * MB for k in range(megabytes)), [TAIL])
    read, answer = [0], []

    async def receive():
        piece = next(pieces, None)
        if piece is None:
            return {"type": "http.disconnect"}
        read[0] += len(piece)
        return {"type": "http.request", "body": piece, "more_body": piece is not TAIL}

    async def send(message):
        answer.append(message)

    asyncio.run(server(scope, receive, send))
    return answer[0]["status"], b"".join(m.get("body", b"") for m in answer).decode(), read[0]


def known(server, login):
    visitor = Visitor(server.flask)
    if login:
        visitor.sign_in(login)
    else:
        visitor.get("/sign-in")
    return visitor


class Kept(tempfile.SpooledTemporaryFile):
    """Where a body is kept, and how much of it was."""

    most = 0

    def write(self, data):
        Kept.most = max(Kept.most, self.tell() + len(data))
        return super().write(data)


@pytest.mark.parametrize(
    ("login", "path"), [(None, "/parts"), (None, "/sign-in"), (None, "/nowhere"), ("rafe", "/parts"), ("tamsin", "/people")]
)
def test_a_stranger_and_who_may_not_send_files_leave_no_more_than_a_form(server, monkeypatch, login, path):
    monkeypatch.setattr(tempfile, "SpooledTemporaryFile", Kept)
    Kept.most = 0
    for announced in (True, False):
        status, said, _ = sends(server, known(server, login), 12, announced, path)
        assert status == 413
        assert "larger than any form" in said
        assert Kept.most <= FORM_BYTES


@pytest.mark.parametrize("announced", [True, False])
def test_a_file_is_streamed_into_the_database_and_no_process_has_it_whole(server, announced):
    visitor, megabytes = known(server, "tamsin"), 40
    tracemalloc.start()
    try:
        status, _, _ = sends(server, visitor, megabytes, announced)
        largest = tracemalloc.get_traced_memory()[1]
    finally:
        tracemalloc.stop()
    assert status == 302
    assert largest < megabytes * MB / 3
    with transaction() as session:
        part = session.scalars(select(Part).order_by(Part.id.desc())).first()
        size = func.sum(func.octet_length(PartFile.piece))
        assert session.scalar(select(size).where(PartFile.part_id == part.id)) == megabytes * MB
        session.delete(part)


def test_a_file_beyond_the_limit_is_heard_out_and_told(server, monkeypatch):
    monkeypatch.setattr(server.flask.view_functions["home.upload"], "takes_bytes", 5 * MB)
    status, said, read = sends(server, known(server, "tamsin"), 12)
    assert status == 413 and "larger than 5 MB" in said and "Nothing of it was kept" in said
    assert read > 12 * MB  # a browser that is cut off shows no answer


def test_a_full_disk_gets_its_sentence(server, monkeypatch):
    class Full(tempfile.SpooledTemporaryFile):
        def write(self, data):
            raise OSError(errno.ENOSPC, "No space left on device")

    visitor = known(server, "tamsin")
    monkeypatch.setattr(tempfile, "SpooledTemporaryFile", Full)
    status, said, _ = sends(server, visitor, 2)
    assert status == 507
    assert "disk is full. Nothing of this was kept; every confirmed hit is." in " ".join(said.split()).replace("&#39;", "'")
