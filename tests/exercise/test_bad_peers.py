"""Devices that misbehave: commands end with a status and a reason, and leave no thread behind."""

import os
import socket
import struct
import threading
import time
from contextlib import suppress

import pytest

HANG_UP = struct.pack("ii", 1, 0)  # SO_LINGER: closing resets the connection


def resets(peer, over):
    peer.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, HANG_UP)


def resets_after_data(peer, over):
    peer.recv(4)
    resets(peer, over)


def ends_within_a_frame(peer, over):
    peer.sendall(b"\xd7\x4b\x21")


def never_reads(peer, over):
    over.wait(20)


def reads_a_byte_at_a_time(peer, over):
    while peer.recv(1) and not over.wait(0.2):
        pass


def floods(peer, over):
    data = os.urandom(1 << 16)
    while not over.wait(0.01):  # some 6 MB a second, which is more than is shown
        peer.sendall(data)


PEERS = {
    peer.__name__: peer
    for peer in (resets, resets_after_data, ends_within_a_frame, never_reads, reads_a_byte_at_a_time, floods)
}
COMMANDS = {
    "listen": ("listen", "{port}", "--seconds", "0.6", "--show", "nothing"),
    "recording": ("listen", "{port}", "--seconds", "0.6", "--show", "nothing", "--record", "{folder}/talk.jsonl"),
    "send": ("send", "{port}", "flow?", "--times", "3", "--every", "50"),
    "loopback": ("loopback", "{port}", "--characters", "3000", "--limit", "0.5"),
    "dialogue": ("dialogue", "{sheet}", "pump={port}"),
    "torture": ("loopback", "{sheet}", "{port}", "--torture", "--frame", "status", "--trials", "1", "--limit", "0.05"),
    "forward": ("listen", "{port}", "stand-in:echo", "--forward", "--seconds", "0.6", "--show", "nothing"),
}
STATUS = {  # where the peer stays: nothing arrives, or what arrives is not what is expected
    ("listen", "stays"): 0, ("recording", "stays"): 0, ("send", "stays"): 0, ("forward", "stays"): 0,
    ("loopback", "stays"): 1, ("dialogue", "stays"): 1, ("torture", "stays"): 1,
}  # fmt: skip


@pytest.mark.parametrize("name", list(COMMANDS))
@pytest.mark.parametrize("peer", list(PEERS))
def test_a_command_ends_whatever_the_device_does(name, peer, shell, rig_files, tmp_path):
    before, over = threading.active_count(), threading.Event()
    with socket.create_server(("127.0.0.1", 0)) as server:

        def serve():
            held, _ = server.accept()
            with held, suppress(OSError):  # the command has hung up
                PEERS[peer](held, over)

        thread = threading.Thread(target=serve)
        thread.start()
        port = f"127.0.0.1:{server.getsockname()[1]}"
        words = [word.format(port=port, sheet=rig_files["sheet"], folder=tmp_path) for word in COMMANDS[name]]
        began = time.monotonic()
        status, _, err = shell(*words)
        took_s = time.monotonic() - began
        over.set()
        thread.join(10)
    stays = peer in ("never_reads", "reads_a_byte_at_a_time", "floods")
    assert "Traceback" not in err
    if (name, peer) == (
        "forward",
        "floods",
    ) and status == 2:  # it sends and does not read: nothing more can be forwarded
        assert "whether the other end reads" in err
        return
    assert status in ({STATUS[name, "stays"]} if stays else {0, 1, 2}), err
    if status == 2:
        assert any(why in err for why in ("is gone. Was it", "was closed by the other end", "reset by peer")), err
    assert took_s < 60
    assert threading.active_count() <= before


@pytest.mark.parametrize("place", ["accept:7301", "accept::7301"])
def test_a_listener_needs_an_address_to_bind_to(place, shell):
    status, _, err = shell("listen", place, "--seconds", "0.1")
    assert (status, "Traceback" in err) == (2, False)


@pytest.mark.parametrize(("host", "remark"), [("127.0.0.1", ""), ("0.0.0.0", ", which other machines can reach")])
def test_a_listener_notes_who_can_reach_it(host, remark, shell):
    with socket.create_server((host, 0)) as taken:  # the address is in use: the command ends at once
        place = f"{host}:{taken.getsockname()[1]}"
        status, _, err = shell("listen", f"accept:{place}", "--seconds", "0.1")
    assert status == 2
    assert f"waiting for a connection at {place}{remark}\n" in err
