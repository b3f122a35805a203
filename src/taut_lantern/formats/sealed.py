"""Parse what came from outside in a process that can reach nothing but its input.

The process is forked, closes what it inherited, and locks itself down with what an unprivileged process may use:
*Landlock* (Linux 5.13; reads its input and no other file), *seccomp* (no network, no new processes, no looking into others) and
*limits* (memory, processor time, files). What a kernel lacks is named by ``measures`` and left out; the rest stays. Results come
back as JSON and plain arrays: nothing that the parser says is ever run.
"""

from __future__ import annotations

import ctypes
import gc
import json
import logging
import mmap
import os
import platform
import resource
import select
import signal
import struct
import sys
import time
from collections.abc import Callable
from functools import cache
from pathlib import Path
from typing import Any

from ..core.errors import BadInput, Cancelled, LanternError, NotEnough, NotFound

log = logging.getLogger("taut_lantern.formats")
_libc = ctypes.CDLL(None, use_errno=True)
_PR_SET_PDEATHSIG, _PR_SET_SECCOMP, _PR_SET_NO_NEW_PRIVS, _PR_SET_DUMPABLE = 1, 22, 38, 4
_READ_FILE = 1 << 2

# Calls that a parser has no use for, by the kernel's numbers (x86_64, aarch64); -1: not there.
_REFUSED = {
    "socket": (41, 198), "socketpair": (53, 199), "connect": (42, 203), "accept": (43, 202), "accept4": (288, 242), "bind": (49, 200),
    "listen": (50, 201), "sendto": (44, 206), "sendmsg": (46, 211), "sendmmsg": (307, 269), "execve": (59, 221), "execveat": (322, 281),
    "fork": (57, -1), "vfork": (58, -1), "ptrace": (101, 117), "process_vm_readv": (310, 270), "process_vm_writev": (311, 271),
    "kill": (62, 129), "tkill": (200, 130), "pidfd_open": (434, 434), "pidfd_getfd": (438, 438), "pidfd_send_signal": (424, 424),
    "mount": (165, 40), "umount2": (166, 39), "pivot_root": (155, 41), "chroot": (161, 51), "unshare": (272, 97), "setns": (308, 268),
    "bpf": (321, 280), "perf_event_open": (298, 241), "io_uring_setup": (425, 425), "io_uring_enter": (426, 426),
    "userfaultfd": (323, 282), "open_by_handle_at": (304, 265), "keyctl": (250, 219), "add_key": (248, 217), "request_key": (249, 218),
    "shmget": (29, 194), "shmat": (30, 196), "msgget": (68, 186), "mq_open": (240, 180), "kexec_load": (246, 104),
}  # fmt: skip
RELIEVE = 4_000_000  # points between two of these
_CLONE, _CLONE3 = (56, 220), (435, 435)
_CLONE_THREAD = 0x10000


@cache
def measures() -> tuple[str, ...]:
    """What this machine can be locked down with, of landlock, seccomp and limits."""
    found = ["limits"]
    if platform.machine() in ("x86_64", "aarch64") and "Seccomp" in Path("/proc/self/status").read_text():
        found.append("seccomp")
    if _libc.syscall(444, None, 0, 1) >= 1:
        found.append("landlock")
    lacking = {"landlock", "seccomp"} - set(found)
    if lacking:
        log.warning("files are parsed without %s: this kernel does not offer it", " and ".join(sorted(lacking)))
    return tuple(sorted(found))


def _landlock(path: Path) -> None:
    """From here on this process reads ``path`` and no other file, writes none and opens no TCP connection."""
    abi = int(_libc.syscall(444, None, 0, 1))
    files = (1 << {1: 13, 2: 14, 3: 15, 4: 15}.get(abi, 16)) - 1
    attributes = struct.pack("QQ", files, 3) if abi >= 4 else struct.pack("Q", files)
    rules = int(_libc.syscall(444, attributes, len(attributes), 0))
    if rules < 0:
        raise OSError(ctypes.get_errno(), "landlock_create_ruleset")
    fd = os.open(path, os.O_PATH | os.O_CLOEXEC)
    if _libc.syscall(445, rules, 1, struct.pack("=Qi", _READ_FILE, fd), 0) or _libc.syscall(446, rules, 0):
        raise OSError(ctypes.get_errno(), "landlock")
    os.close(fd)
    os.close(rules)


def _seccomp() -> None:
    """From here on refused calls fail with EPERM; threads may be made, processes may not."""
    arm = platform.machine() == "aarch64"
    load, equal, at_least, any_bit, answer = 0x20, 0x15, 0x35, 0x45, 0x06
    allow, refuse, missing, kill = 0x7FFF0000, 0x00050000 | 1, 0x00050000 | 38, 0x80000000
    numbers = sorted(n[arm] for n in _REFUSED.values() if n[arm] >= 0)
    program = [(load, 0, 0, 4), (equal, 1, 0, 0xC00000B7 if arm else 0xC000003E), (answer, 0, 0, kill), (load, 0, 0, 0)]
    if not arm:
        program += [(at_least, 0, 1, 0x40000000), (answer, 0, 0, kill)]  # the x32 way into the same kernel
    program += [(equal, 0, 1, _CLONE3[arm]), (answer, 0, 0, missing)]
    program += [(equal, 0, 4, _CLONE[arm]), (load, 0, 0, 16), (any_bit, 0, 1, _CLONE_THREAD), (answer, 0, 0, allow), (answer, 0, 0, refuse)]
    for number in numbers:
        program += [(equal, 0, 1, number), (answer, 0, 0, refuse)]
    program.append((answer, 0, 0, allow))
    body = b"".join(struct.pack("=HBBI", *x) for x in program)
    held = ctypes.create_string_buffer(body)
    head = struct.pack("HxxxxxxQ", len(program), ctypes.addressof(held))
    if _libc.prctl(_PR_SET_SECCOMP, 2, head, 0, 0):
        raise OSError(ctypes.get_errno(), "seccomp")


def _lock_down(reads: Path, memory: int, seconds: float, keep: tuple[int, ...]) -> None:
    _libc.prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)
    _libc.prctl(_PR_SET_DUMPABLE, 0)
    _libc.prctl(_PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0)
    gc.disable()  # what was inherited is not closed twice
    low = 3
    for fd in sorted(keep):
        os.closerange(low, fd)
        low = fd + 1
    os.closerange(low, 65536)
    quiet = os.open("/dev/null", os.O_RDWR)
    for fd in (0, 1, 2):
        os.dup2(quiet, fd)
    os.environ.clear()
    held = int(Path("/proc/self/statm").read_text().split()[5]) * os.sysconf("SC_PAGE_SIZE")
    for what, most in (
        (resource.RLIMIT_DATA, held + memory),
        (resource.RLIMIT_CPU, int(4 * seconds) + 2),
        (resource.RLIMIT_FSIZE, memory),
        (resource.RLIMIT_CORE, 0),
        (resource.RLIMIT_NOFILE, 64),
    ):
        hard = resource.getrlimit(what)[1]
        resource.setrlimit(what, (most, most) if hard == resource.RLIM_INFINITY or most < hard else (hard, hard))
    if "landlock" in measures():
        _landlock(reads)
    if "seccomp" in measures():
        _seccomp()


class Seal:
    """What the sealed work may use: ``report(done, total)``, and one block of memory (or of a file) that outlives it."""

    def __init__(self, out: int, memory: int, on_disk: bool) -> None:
        self._out, self._memory, self._on_disk, self._last = out, memory, on_disk, 0.0
        self._block: mmap.mmap | None = None
        self._relieved = 0

    def report(self, done: int, total: int) -> None:
        if time.monotonic() - self._last > 0.1 or done == total:
            self._last = time.monotonic()
            self.say({"report": [done, total]})

    def block(self, size: int) -> mmap.mmap:
        os.ftruncate(self._memory, size)
        self._block = mmap.mmap(self._memory, max(size, 1))
        return self._block

    def relieve(self, points: int) -> None:
        """Let what was written so far of a block in a file leave this process's memory, every few million points."""
        if self._on_disk and self._block is not None and not 0 <= points - self._relieved < RELIEVE:
            self._block.madvise(mmap.MADV_DONTNEED)
            self._relieved = points

    def say(self, what: dict[str, Any]) -> None:
        body = json.dumps(what).encode()
        body = struct.pack("=I", len(body)) + body
        while body:
            body = body[os.write(self._out, body) :]


def run(
    work: Callable[[Seal], dict[str, Any]],
    reads: Path,
    shown: str,
    seconds: float,
    memory: int,
    report: Callable[[int, int], None] = lambda done, total: None,
    into: Path | None = None,
) -> tuple[dict[str, Any], mmap.mmap | None]:
    """Run ``work`` sealed; returns what it returned (JSON) and the block of memory it filled, if any.

    reads: the one file it may read; seconds: how long it may take. Errors that the work raises are raised here; BadInput,
    naming the file, when it crashes, takes too long or needs too much memory. ``report`` is called here and may raise to stop it.
    into: a file for the block, in place of memory; it is not mapped here.
    """
    measures()
    if into is None:
        memory_fd = os.memfd_create("points", os.MFD_CLOEXEC)
    else:
        memory_fd = os.open(into, os.O_RDWR | os.O_CREAT | os.O_TRUNC | os.O_CLOEXEC, 0o600)
    incoming, outgoing = os.pipe()
    sys.stdout.flush()
    pid = os.fork()
    if pid == 0:
        code = 70
        try:
            seal = Seal(outgoing, memory_fd, into is not None)
            _lock_down(reads, memory, seconds, (outgoing, memory_fd))
            try:
                seal.say({"result": work(seal)})
            except LanternError as problem:
                told = {"code": problem.code, "message": problem.message, "subject": problem.subject, "remedy": problem.remedy}
                seal.say({"error": told, "kind": type(problem).__name__})
            except MemoryError:
                seal.say({"error": None})
            except Exception as problem:
                said = f"{shown} cannot be read ({type(problem).__name__}: {str(problem)[:160]})"
                told = {"code": "unreadable", "message": said, "subject": shown, "remedy": "copy it again, or export it anew"}
                seal.say({"error": told, "kind": "BadInput"})
            code = 0
        finally:
            os._exit(code)
    os.close(outgoing)
    ended = -1
    try:
        answer = _listen(incoming, time.monotonic() + seconds, report)
        if answer is not None:
            _, ended = os.waitpid(pid, 0)
            pid = 0
            return _opened(answer, shown, memory_fd if into is None else None)
    finally:
        os.close(incoming)
        if pid:
            os.kill(pid, signal.SIGKILL)
            _, ended = os.waitpid(pid, 0)
        os.close(memory_fd)
    broke = (
        "took too long to read" if os.WIFSIGNALED(ended) and os.WTERMSIG(ended) in (signal.SIGKILL, signal.SIGXCPU) else "broke its reader"
    )
    raise BadInput(f"{shown} {broke}: the file is damaged", subject=shown, remedy="copy it again, or export it anew", code="unreadable")


def _listen(incoming: int, until: float, report: Callable[[int, int], None]) -> dict[str, Any] | None:
    """The answer of the sealed work; None when it ended without one, or its time was over."""
    got = bytearray()
    while True:
        ready, _, _ = select.select([incoming], [], [], max(0.0, until - time.monotonic()))
        if not ready:
            return None
        piece = os.read(incoming, 1 << 16)
        if not piece:
            return None
        got += piece
        while len(got) >= 4 and len(got) >= 4 + (n := struct.unpack_from("=I", got)[0]):
            message = json.loads(bytes(got[4 : 4 + n]))
            del got[: 4 + n]
            if "report" not in message:
                return dict(message)
            report(*(int(v) for v in message["report"][:2]))
        if len(got) > 256 << 20:
            return None


_KINDS = {x.__name__: x for x in (BadInput, NotFound, NotEnough, Cancelled)}


def _opened(answer: dict[str, Any], shown: str, memory_fd: int | None) -> tuple[dict[str, Any], mmap.mmap | None]:
    if "result" in answer:
        size = 0 if memory_fd is None else os.fstat(memory_fd).st_size
        return answer["result"], mmap.mmap(memory_fd, size) if size and memory_fd is not None else None
    if answer["error"] is None:
        raise BadInput(
            f"{shown} asks for more memory than a file may take",
            subject=shown,
            remedy="the file is damaged, or larger than this machine can read: export it in parts",
            code="too_large",
        )
    told = {k: str(v) for k, v in answer["error"].items()}
    raise _KINDS.get(str(answer["kind"]), BadInput)(told.pop("message"), **told)
