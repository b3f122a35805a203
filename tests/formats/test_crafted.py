"""Files made to do harm: none reads another file, calls anybody, hangs or breaks the reader; each is named."""

from __future__ import annotations

import socket
import struct
import threading
import time
from pathlib import Path

import numpy as np
import pytest

from taut_lantern.core.errors import BadInput
from taut_lantern.formats import e57, envelope, sealed
from tests.support import room, write_scan

SECRET = "the-password-of-the-database"
CRC = np.zeros(256, np.uint32)
for _k in range(256):
    _c = _k
    for _ in range(8):
        _c = (_c >> 1) ^ (0x82F63B78 if _c & 1 else 0)
    CRC[_k] = _c


def crc32c(data: bytes) -> int:
    c = 0xFFFFFFFF
    for b in data:
        c = int(CRC[(c ^ b) & 255]) ^ (c >> 8)
    return c ^ 0xFFFFFFFF


def checksummed(raw: bytes) -> bytes:
    """A file of whole pages with checksums that are right again."""
    return b"".join(raw[k : k + 1020] + struct.pack(">I", crc32c(raw[k : k + 1020])) for k in range(0, len(raw), 1024))


def with_xml(source: Path, path: Path, change: object) -> Path:
    """A copy of an E57 file whose XML section was changed, with lengths and checksums that are right again."""
    raw = source.read_bytes()
    at, logical = struct.unpack_from("<QQ", raw, 24)
    pages = [raw[k : k + 1020] for k in range(0, len(raw), 1024)]
    body = b"".join(pages)
    begin = (at // 1024) * 1020 + at % 1024
    xml = change(body[begin : begin + logical])  # type: ignore[operator]
    body = body[:begin] + xml
    body += bytes(-len(body) % 1020)
    head = bytearray(body[:48])
    struct.pack_into("<QQQ", head, 16, len(body) // 1020 * 1024, at, len(xml))
    body = bytes(head) + body[48:]
    out = b""
    for k in range(0, len(body), 1020):
        page = body[k : k + 1020]
        out += page + struct.pack(">I", crc32c(page))
    path.write_bytes(out)
    return path


@pytest.fixture(scope="module")
def sound(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return write_scan(tmp_path_factory.mktemp("sound") / "sound.e57", room(400), name="ST-1")


def test_a_file_whose_description_is_written_anew_is_still_read(sound: Path, tmp_path: Path) -> None:
    path = with_xml(sound, tmp_path / "again.e57", lambda xml: xml.replace(b"ST-1", b"ST-9"))
    assert [(h.name, h.points) for h in e57.headers(path)] == [("ST-9", 400)]


class Listener:
    """Whoever is called: counts the calls."""

    def __enter__(self) -> Listener:
        self.calls = 0
        self.socket = socket.create_server(("127.0.0.1", 0))
        self.port = self.socket.getsockname()[1]
        threading.Thread(target=self._take, daemon=True).start()
        return self

    def _take(self) -> None:
        while True:
            try:
                self.socket.accept()[0].close()
            except OSError:
                return
            self.calls += 1

    def __exit__(self, *_: object) -> None:
        self.socket.close()


def crafted(port: int, secret: Path) -> dict[str, object]:
    def after_declaration(text: str, name: str = "ST-1") -> object:
        def change(xml: bytes) -> bytes:
            head, _, rest = xml.partition(b"?>")
            return head + b"?>" + text.encode() + rest.replace(b"ST-1", name.encode())

        return change

    bomb = "".join(f'<!ENTITY b{k} "{f"&b{k - 1};" * 10}">' for k in range(1, 10))
    attribute = lambda text: lambda xml: xml.replace(b"<e57Root ", b"<e57Root " + text.encode() + b" ", 1)  # noqa: E731
    utf16 = lambda xml: xml.replace(b'encoding="UTF-8"', b"").decode().replace("?>", "?><!DOCTYPE e57Root>", 1).encode("utf-16")  # noqa: E731
    xsi = 'xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance"'
    return {
        "an external entity": after_declaration(f'<!DOCTYPE e57Root [<!ENTITY x SYSTEM "file://{secret}">]>', "&x;"),
        "an external document type": after_declaration(f'<!DOCTYPE e57Root SYSTEM "http://127.0.0.1:{port}/a.dtd">'),
        "a parameter entity": after_declaration(f'<!DOCTYPE e57Root [<!ENTITY % p SYSTEM "http://127.0.0.1:{port}/p"> %p;]>'),
        "a bomb of entities": after_declaration(f'<!DOCTYPE e57Root [<!ENTITY b0 "boom">{bomb}]>', "&b9;"),
        "a bare document type": after_declaration("<!DOCTYPE e57Root>"),
        "a schema's location": attribute(f'{xsi} xsi:schemaLocation="http://x http://127.0.0.1:{port}/x.xsd"'),
        "a schema without namespace": attribute(f'{xsi} xsi:noNamespaceSchemaLocation="http://127.0.0.1:{port}/x.xsd"'),
        "a schema under another prefix": attribute(f'{xsi.replace("xsi=", "q=")} q:schemaLocation="a http://127.0.0.1:{port}/x"'),
        "a style sheet": after_declaration(f'<?xml-stylesheet href="http://127.0.0.1:{port}/s"?>'),
        "UTF-16": utf16,
        "another encoding": lambda xml: xml.replace(b"UTF-8", b"UTF-7", 1),
    }


@pytest.mark.parametrize("kind", crafted(0, Path("/x")))
def test_a_crafted_description_is_refused_before_the_decoder_sees_it(sound: Path, tmp_path: Path, kind: str) -> None:
    secret = tmp_path / "secret"
    secret.write_text(SECRET)
    with Listener() as listener:
        path = with_xml(sound, tmp_path / "crafted.e57", crafted(listener.port, secret)[kind])
        begun = time.monotonic()
        for read in (e57.headers, lambda p: e57.points(p, 0)):
            with pytest.raises(BadInput) as caught:
                read(path)
            assert "crafted.e57" in str(caught.value) and SECRET not in str(caught.value)
        time.sleep(0.1)
        assert listener.calls == 0 and time.monotonic() - begun < 5
    envelope.check(sound, "sound.e57")


def test_even_a_decoder_that_follows_everything_reaches_nothing(sound: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The second wall: without the look at the description, the sealed reader itself finds no file and no network."""
    monkeypatch.setattr(envelope, "check", lambda path, shown: None)
    secret = tmp_path / "secret"
    secret.write_text(SECRET)
    with Listener() as listener:
        for kind in ("an external entity", "an external document type", "a parameter entity"):
            path = with_xml(sound, tmp_path / "crafted.e57", crafted(listener.port, secret)[kind])
            try:
                said = str(e57.headers(path))
            except BadInput as problem:
                said = str(problem)
            assert SECRET not in said, kind
        time.sleep(0.1)
        assert listener.calls == 0


def test_the_sealed_process_can_reach_nothing_but_its_input(tmp_path: Path) -> None:
    own = tmp_path / "own"
    own.write_text("own")
    other = tmp_path / "other"
    other.write_text("other")

    def attempt(seal: sealed.Seal) -> dict[str, str]:
        import os

        tries = {
            "own": lambda: own.read_text(),
            "other": lambda: other.read_text(),
            "write": lambda: own.write_text("changed"),
            "make": lambda: (tmp_path / "new").write_text("x"),
            "connect": lambda: socket.create_connection(("127.0.0.1", 1)),
            "fork": os.fork,
            "run": lambda: os.execv("/bin/true", ["true"]),
            "stop its parent": lambda: os.kill(os.getppid(), 9),
            "environment": lambda: dict(os.environ),
        }
        out = {}
        for name, act in tries.items():
            try:
                out[name] = str(act())  # type: ignore[operator]
            except Exception as problem:
                out[name] = type(problem).__name__
        return out

    said, _ = sealed.run(attempt, own, "own", 10, 1 << 30)
    if set(sealed.measures()) >= {"landlock", "seccomp"}:
        refused = dict.fromkeys(("other", "write", "make", "connect", "fork", "run", "stop its parent"), "PermissionError")
        assert said == {"own": "own", "environment": "{}", **refused}
    assert own.read_text() == "own"


def test_a_reader_that_hangs_breaks_or_devours_memory_is_an_error_of_that_file(tmp_path: Path) -> None:
    own = tmp_path / "own.e57"
    own.write_text("own")

    def devour(seal: sealed.Seal) -> dict[str, object]:
        held = [np.ones(50_000_000) for _ in range(100)]
        return {"n": len(held)}

    def crash(seal: sealed.Seal) -> dict[str, object]:
        import ctypes

        return {"v": ctypes.string_at(0)}

    for work, words in ((lambda seal: time.sleep(60), "took too long"), (crash, "broke its reader"), (devour, "more memory")):
        begun = time.monotonic()
        with pytest.raises(BadInput, match=words) as caught:
            sealed.run(work, own, "own.e57", 2, 1 << 30)  # type: ignore[arg-type]
        assert "own.e57" in str(caught.value) and time.monotonic() - begun < 8


@pytest.mark.parametrize("seed", range(4))
def test_mutated_files_are_read_or_named_and_never_break_the_reader(sound: Path, tmp_path: Path, seed: int) -> None:
    rng = np.random.default_rng(seed)
    raw = np.frombuffer(sound.read_bytes(), np.uint8)
    for k in range(15):
        data = raw.copy()
        begin = int(rng.integers(0, len(data)))
        match k % 3:
            case 0:
                data[rng.integers(0, len(data), 8)] = rng.integers(0, 256, 8)
            case 1:
                data = data[: max(1, begin)]
            case _:
                data[begin : begin + 200] = rng.integers(0, 256, len(data[begin : begin + 200]))
        path = tmp_path / "mutated.e57"
        body = data.tobytes()
        path.write_bytes(checksummed(body) if k % 2 and len(body) % 1024 == 0 else body)
        try:
            for n, head in enumerate(e57.headers(path)):
                scan, counts = e57.points(path, n)
                assert counts["read"] == head.points and len(scan) <= head.points
        except BadInput as problem:
            assert "mutated.e57" in problem.message and problem.remedy
