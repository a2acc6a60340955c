"""The second wall around a trial: the kernel refuses what would leave the copy, however it is asked for.

Two of Linux's barriers need no rights.  Landlock (since 5.13) refuses to make, write and remove files; since 6.7 also
connections, since 6.12 signals to others.  A seccomp filter refuses the system calls below.  What is missing on an
older system is left to the audit hook of `trial`, which sees calls of Python's own modules only.
"""

from __future__ import annotations

import ctypes
import errno
import os
import struct

PR_SET_NO_NEW_PRIVS, PR_SET_SECCOMP, SECCOMP_MODE_FILTER = 38, 22, 2
ALLOW, ERRNO = 0x7FFF0000, 0x00050000
LOAD, EQUAL, AT_LEAST, ANY_BIT, RETURN = 0x20, 0x15, 0x35, 0x45, 0x06  # instructions of the filter's machine
X32 = 0x40000000  # from this number on, the calls of another interface of x86_64
NUMBER, ARCHITECTURE, ARGUMENTS = 0, 4, 16  # offsets of what a filter is given
CLONE_THREAD = 0x10000

# System calls by name: x86_64, aarch64 (0: there is none).
REFUSED = {
    **{"rt_sigqueueinfo": (129, 138), "rt_tgsigqueueinfo": (297, 240), "pidfd_send_signal": (424, 424)},
    **{"fork": (57, 0), "vfork": (58, 0), "execve": (59, 221), "execveat": (322, 281), "ptrace": (101, 117)},
    **{"connect": (42, 203), "bind": (49, 200), "listen": (50, 201), "sendmsg": (46, 211), "sendmmsg": (307, 269)},
    **{"rename": (82, 0), "renameat": (264, 38), "renameat2": (316, 276), "mkdir": (83, 0), "mkdirat": (258, 34)},
    **{"rmdir": (84, 0), "link": (86, 0), "linkat": (265, 37), "unlink": (87, 0), "unlinkat": (263, 35)},
    **{"symlink": (88, 0), "symlinkat": (266, 36), "mknod": (133, 0), "mknodat": (259, 33), "truncate": (76, 45)},
    **{"chmod": (90, 0), "fchmod": (91, 52), "fchmodat": (268, 53), "fchmodat2": (452, 452), "chown": (92, 0)},
    **{"fchown": (93, 55), "lchown": (94, 0), "fchownat": (260, 54), "utime": (132, 0), "utimes": (235, 0)},
    **{"utimensat": (280, 88), "futimesat": (261, 0), "setxattr": (188, 5), "lsetxattr": (189, 6)},
    **{"fsetxattr": (190, 7), "removexattr": (197, 14), "lremovexattr": (198, 15), "fremovexattr": (199, 16)},
    **{"setpriority": (141, 140), "ioprio_set": (251, 30), "setpgid": (109, 154), "process_vm_writev": (311, 271)},
    **{"mq_open": (240, 180), "mq_unlink": (241, 181), "shmget": (29, 194), "semget": (64, 190), "msgget": (68, 186)},
    **{"mq_timedsend": (242, 182), "mq_timedreceive": (243, 183), "shmat": (30, 196), "shmctl": (31, 195)},
    **{"semop": (65, 193), "semctl": (66, 191), "semtimedop": (220, 192), "msgsnd": (69, 189), "msgrcv": (70, 188)},
    **{"msgctl": (71, 187), "setxattrat": (463, 463), "removexattrat": (466, 466), "file_setattr": (469, 469)},
    **{"add_key": (248, 217), "request_key": (249, 218), "keyctl": (250, 219), "sethostname": (170, 161)},
    **{"setdomainname": (171, 162), "settimeofday": (164, 170), "clock_settime": (227, 112), "mount": (165, 40)},
    **{"umount2": (166, 39), "reboot": (169, 142), "io_uring_setup": (425, 425), "bpf": (321, 280)},
}
IOCTL = (16, 29)
# Requests that change a file, or what another program reads, through a descriptor that is open for reading:
# FS_IOC_SETFLAGS and its form of 32 bits, FS_IOC_FSSETXATTR, TIOCSTI.
CHANGING = (0x40086602, 0x40046602, 0x401C5820, 0x5412)
# Of these the first argument is a process; our own, or 0 which means the same, is allowed.
OF_A_PROCESS = {
    **{"kill": (62, 129), "tkill": (200, 130), "tgkill": (234, 131), "prlimit64": (302, 261)},
    **{"sched_setaffinity": (203, 122), "sched_setscheduler": (144, 119), "sched_setparam": (142, 118)},
    "sched_setattr": (314, 274),
}
SENDTO, CLONE, CLONE3 = (44, 206), (56, 220), (435, 435)
MACHINES = {"x86_64": (0, 0xC000003E), "aarch64": (1, 0xC00000B7)}

LANDLOCK_CREATE_RULESET, LANDLOCK_ADD_RULE, LANDLOCK_RESTRICT_SELF = 444, 445, 446
WRITE_FILE, REMOVE_DIR, MAKE_SYM, REFER, TRUNCATE = 1 << 1, 1 << 4, 1 << 12, 1 << 13, 1 << 14
HARMLESS = ("/dev/null", "/dev/zero", "/dev/full")


def _instruction(code: int, k: int, yes: int = 0, no: int = 0) -> bytes:
    return struct.pack("HBBI", code, yes, no, k)


def _filter(column: int, architecture: int, own: int) -> bytes:
    """The filter's program: in turn, each refused call, and all of another architecture; all else is allowed."""
    no = _instruction(RETURN, ERRNO | errno.EPERM)
    yes = _instruction(RETURN, ALLOW)
    out = [_instruction(LOAD, ARCHITECTURE), _instruction(EQUAL, architecture, 1, 0), no, _instruction(LOAD, NUMBER)]
    out += [_instruction(AT_LEAST, X32, 0, 1), no]
    for numbers in REFUSED.values():
        if numbers[column]:
            out += [_instruction(EQUAL, numbers[column], 0, 1), no]
    for numbers in OF_A_PROCESS.values():
        first = _instruction(LOAD, ARGUMENTS)
        checks = [first, _instruction(EQUAL, 0, 2, 0), _instruction(EQUAL, own, 1, 0), no, yes]
        out += [_instruction(EQUAL, numbers[column], 0, len(checks)), *checks]
    checks = [_instruction(LOAD, ARGUMENTS + 8)]
    for number, request in enumerate(CHANGING):
        checks.append(_instruction(EQUAL, request, len(CHANGING) - number, 0))
    checks += [yes, no]
    out += [_instruction(EQUAL, IOCTL[column], 0, len(checks)), *checks]
    address = ARGUMENTS + 4 * 8  # of the receiver: none for a socket that is connected
    checks = [_instruction(LOAD, address), _instruction(EQUAL, 0, 0, 2), _instruction(LOAD, address + 4)]
    checks += [_instruction(EQUAL, 0, 1, 0), no, yes]
    out += [_instruction(EQUAL, SENDTO[column], 0, len(checks)), *checks]
    checks = [_instruction(LOAD, ARGUMENTS), _instruction(ANY_BIT, CLONE_THREAD, 1, 0), no, yes]
    out += [_instruction(EQUAL, CLONE[column], 0, len(checks)), *checks]
    # The flags of clone3 are out of sight; without it, threads are begun by clone.
    out += [_instruction(EQUAL, CLONE3[column], 0, 1), _instruction(RETURN, ERRNO | errno.ENOSYS), yes]
    return b"".join(out)


class _Program(ctypes.Structure):
    _fields_ = [("length", ctypes.c_ushort), ("filter", ctypes.c_char_p)]


def raise_up() -> tuple[bool, bool]:
    """Put both barriers around this process, for good.  Whether the files are guarded, and the system calls."""
    try:
        libc = ctypes.CDLL(None, use_errno=True)
        if libc.prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0) != 0:
            return False, False
        return _guard_files(libc), _guard_calls(libc)
    except (OSError, AttributeError):
        return False, False


def _guard_calls(libc: ctypes.CDLL) -> bool:
    machine = MACHINES.get(os.uname().machine)
    if machine is None:
        return False
    program = _filter(*machine, os.getpid())
    held = _Program(len(program) // 8, program)
    return bool(libc.prctl(PR_SET_SECCOMP, SECCOMP_MODE_FILTER, ctypes.byref(held), 0, 0) == 0)


def _guard_files(libc: ctypes.CDLL) -> bool:
    version = libc.syscall(LANDLOCK_CREATE_RULESET, None, ctypes.c_size_t(0), 1)
    if version < 1:
        return False
    files = WRITE_FILE
    right = REMOVE_DIR
    while right <= MAKE_SYM:
        files |= right
        right <<= 1
    files |= (REFER if version >= 2 else 0) | (TRUNCATE if version >= 3 else 0)
    network = 3 if version >= 4 else 0  # binding and connecting by TCP
    scoped = 3 if version >= 6 else 0  # abstract sockets and signals
    wanted = struct.pack("QQQ", files, network, scoped)[: 8 if version < 4 else 16 if version < 6 else 24]
    rules = libc.syscall(LANDLOCK_CREATE_RULESET, wanted, ctypes.c_size_t(len(wanted)), 0)
    if rules < 0:
        return False
    try:
        for path in HARMLESS:
            handle = os.open(path, os.O_PATH | os.O_CLOEXEC)
            allowed = struct.pack("=Qi", WRITE_FILE | (TRUNCATE if version >= 3 else 0), handle)
            libc.syscall(LANDLOCK_ADD_RULE, rules, 1, allowed, 0)
            os.close(handle)
        return bool(libc.syscall(LANDLOCK_RESTRICT_SELF, rules, 0) == 0)
    finally:
        os.close(rules)
