"""Which processes of Windows hold a serial port: by a look at the handles that are open.

The system has no call that names the holder of a device. Its table of all handles can be read
(``NtQuerySystemInformation``, class 64), and the handles of processes that belong to the same user can be copied and
asked for the name of their device. What belongs to another user stays unknown.
"""

from __future__ import annotations

import ctypes
import os
import threading
from collections.abc import Iterable, Iterator
from ctypes import wintypes
from pathlib import PureWindowsPath
from typing import Any

from . import win32

SYSTEM_EXTENDED_HANDLE_INFORMATION, OBJECT_NAME_INFORMATION = 64, 1  # winternl.h and the driver kit's ntifs.h
STATUS_INFO_LENGTH_MISMATCH = 0xC0000004
PROCESS_DUP_HANDLE, PROCESS_QUERY_LIMITED_INFORMATION, DUPLICATE_SAME_ACCESS = 0x40, 0x1000, 2
FILE_TYPE_CHAR = 2
FIRST_TABLE, LARGEST_TABLE = 1 << 20, 1 << 28
PATIENCE_S = 1.0  # a handle that is in use for a read that waits can keep its asker waiting for ever


class _Entry(ctypes.Structure):
    """A handle (``SYSTEM_HANDLE_TABLE_ENTRY_INFO_EX``)."""

    _fields_ = (
        ("Object", ctypes.c_void_p),
        ("UniqueProcessId", ctypes.c_size_t),
        ("HandleValue", ctypes.c_size_t),
        ("GrantedAccess", win32.DWORD),
        ("CreatorBackTraceIndex", win32.WORD),
        ("ObjectTypeIndex", win32.WORD),
        ("HandleAttributes", win32.DWORD),
        ("Reserved", win32.DWORD),
    )


class _UnicodeString(ctypes.Structure):
    _fields_ = (("Length", win32.WORD), ("MaximumLength", win32.WORD), ("Buffer", wintypes.LPWSTR))


def holders(names: Iterable[str]) -> dict[str, list[str]]:
    """Return the other processes that have each port open, as ``name (number)``, as far as they are found in time."""
    found: dict[str, set[str]] = {name: set() for name in names}

    def search() -> None:
        try:
            for name, holder in _search(found):
                found[name].add(holder)
        except (OSError, ValueError):
            return  # what cannot be found out stays unknown

    searcher = threading.Thread(target=search, daemon=True)
    searcher.start()
    searcher.join(PATIENCE_S)
    return {name: sorted(known) for name, known in found.items()}


def _search(names: Iterable[str]) -> Iterator[tuple[str, str]]:
    kernel, system = _libraries()
    wanted = {device: name for name in names if (device := _device_of(kernel, name))}
    own, here = os.getpid(), kernel.GetCurrentProcess()
    processes: dict[int, Any] = {}
    try:
        for number, handle in _handles(system):
            if number == own:
                continue
            if number not in processes:
                access = PROCESS_DUP_HANDLE | PROCESS_QUERY_LIMITED_INFORMATION
                processes[number] = kernel.OpenProcess(access, False, number)
            copy = wintypes.HANDLE()
            arguments = (here, ctypes.byref(copy), 0, False, DUPLICATE_SAME_ACCESS)
            if not processes[number] or not kernel.DuplicateHandle(processes[number], handle, *arguments):
                continue
            try:
                if kernel.GetFileType(copy) == FILE_TYPE_CHAR and (device := _name_of(system, copy)) in wanted:
                    yield wanted[device], f"{_program(kernel, processes[number])} ({number})"
            finally:
                kernel.CloseHandle(copy)
    finally:
        for process in processes.values():
            if process:
                kernel.CloseHandle(process)


def _device_of(kernel: Any, name: str) -> str:
    r"""Return what the system calls the device of a port, such as ``\\Device\\Serial0``."""
    path = ctypes.create_unicode_buffer(1024)
    return path.value if kernel.QueryDosDeviceW(name, path, len(path)) else ""


def _handles(system: Any) -> list[tuple[int, int]]:
    """Return process and value of every handle that is open."""
    size, needed = FIRST_TABLE, win32.DWORD()
    while size <= LARGEST_TABLE:
        table = ctypes.create_string_buffer(size)
        query = (SYSTEM_EXTENDED_HANDLE_INFORMATION, table, size, ctypes.byref(needed))
        status = system.NtQuerySystemInformation(*query) & 0xFFFFFFFF
        if status == 0:
            count = ctypes.c_size_t.from_buffer(table).value
            entries = (_Entry * count).from_buffer(table, 2 * ctypes.sizeof(ctypes.c_size_t))
            return [(entry.UniqueProcessId, entry.HandleValue) for entry in entries]
        if status != STATUS_INFO_LENGTH_MISMATCH:
            return []
        size = max(2 * size, needed.value)
    return []


def _name_of(system: Any, handle: Any) -> str:
    buffer, needed = ctypes.create_string_buffer(2048), win32.DWORD()
    query = (OBJECT_NAME_INFORMATION, buffer, len(buffer), ctypes.byref(needed))
    if system.NtQueryObject(handle, *query):
        return ""
    return _UnicodeString.from_buffer(buffer).Buffer or ""


def _program(kernel: Any, process: Any) -> str:
    path, length = ctypes.create_unicode_buffer(1024), win32.DWORD(1024)
    if not kernel.QueryFullProcessImageNameW(process, 0, path, ctypes.byref(length)):
        return "a program"
    return PureWindowsPath(path.value).stem


def _libraries() -> tuple[Any, Any]:
    kernel = win32.kernel32()
    system = ctypes.WinDLL("ntdll")  # type: ignore[attr-defined, unused-ignore]
    handle, dword, pointer = wintypes.HANDLE, win32.DWORD, ctypes.c_void_p
    for library, name, result, arguments in (
        (kernel, "QueryDosDeviceW", dword, (wintypes.LPCWSTR, wintypes.LPWSTR, dword)),
        (kernel, "GetCurrentProcess", handle, ()),
        (kernel, "OpenProcess", handle, (dword, wintypes.BOOL, dword)),
        (kernel, "DuplicateHandle", wintypes.BOOL, (handle, handle, handle, pointer, dword, wintypes.BOOL, dword)),
        (kernel, "GetFileType", dword, (handle,)),
        (kernel, "QueryFullProcessImageNameW", wintypes.BOOL, (handle, dword, wintypes.LPWSTR, pointer)),
        (system, "NtQuerySystemInformation", ctypes.c_int32, (dword, pointer, dword, pointer)),
        (system, "NtQueryObject", ctypes.c_int32, (handle, dword, pointer, dword, pointer)),
    ):
        function = getattr(library, name)
        function.restype, function.argtypes = result, arguments
    return kernel, system
