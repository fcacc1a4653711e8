"""Runs the command again and again without starting Python each time: forks what has imported it once.

Each line of standard input is a JSON object: `words`, and the paths `into` which its three streams go. It prints the
number of the process, and, when that has ended, its status: negative where a signal ended it.
"""

import json
import os
import signal
import sys

ENDING = [getattr(signal, name) for name in ("SIGINT", "SIGTERM", "SIGHUP")]


def main() -> None:
    """Fork for each line."""
    import larkreader.answers.live_reading
    import larkreader.exercise.loopback.run
    import larkreader.exercise.talk.dialogue
    import larkreader.present.text.views  # noqa: F401
    from larkreader.cli import main as run

    for line in sys.stdin:
        wanted = json.loads(line)
        child = os.fork()
        if child == 0:
            os.setsid()  # a session of its own, as a terminal gives it
            for number in ENDING:
                signal.signal(number, signal.SIG_DFL)
            for target, (path, mode) in enumerate(
                zip(wanted["into"], (os.O_RDONLY, os.O_WRONLY, os.O_WRONLY), strict=True)
            ):
                descriptor = os.open(path, mode | os.O_CREAT | os.O_APPEND)
                os.dup2(descriptor, target)
                os.close(descriptor)
            sys.argv = ["larkreader", *wanted["words"]]
            run()
        sys.stdout.write(f"{child}\n")
        sys.stdout.flush()
        status = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
        sys.stdout.write(f"{status}\n")
        sys.stdout.flush()


if __name__ == "__main__":
    main()
