#!/usr/bin/env python3
"""A command on a terminal of its own, as somebody sits before it.

    on_terminal.py COLUMNS ANSWERS COMMAND ...

ANSWERS are typed, each with Enter, when the command stops and waits behind ": " or "> "; they are parted by "|". At the
end the screen is printed as a person has it before him: what was drawn over is gone. Exits as the command does. A line
that is redrawn and wider than the terminal is a failure of its own: 99; with FITS in the environment any line is, but for commands to be pasted.
"""
import fcntl
import os
import pty
import re
import select
import signal
import struct
import sys
import termios
import time
import unicodedata

columns, answers, command = int(sys.argv[1]), sys.argv[2].split("|") if sys.argv[2] else [], sys.argv[3:]
child, terminal = pty.fork()
if child == 0:
    os.environ["TERM"] = "xterm"
    time.sleep(0.05)  # until the terminal has its size
    os.execvp(command[0], command)
fcntl.ioctl(terminal, termios.TIOCSWINSZ, struct.pack("HHHH", 40, columns, 0, 0))
said, began = b"", time.monotonic()
while True:
    ready, _, _ = select.select([terminal], [], [], 0.2)
    if ready:
        try:
            more = os.read(terminal, 65536)
        except OSError:
            break
        if not more:
            break
        said += more
    elif answers and said.rstrip(b"\x1b[0m").endswith((b": ", b"> ")):
        answer = answers.pop(0)
        os.write(terminal, b"\x03" if answer == "^C" else answer.encode() + b"\n")
    if time.monotonic() - began > 100:
        os.kill(child, signal.SIGKILL)
        break
status = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])

# The screen: lines, a cursor, and the few orders that are used.
lines, row, col, wide = [""], 0, 0, 0


def width(c):
    return 0 if unicodedata.combining(c) else 2 if unicodedata.east_asian_width(c) in "WF" else 1


for part in re.findall(r"\x1b\[[0-9;]*[A-Za-z]|\r|\n|[^\x1b\r\n]+", said.decode(errors="replace")):
    order = re.fullmatch(r"\x1b\[([0-9;]*)([A-Za-z])", part)
    if order and order[2] == "A":
        row = max(0, row - int(order[1] or 1))
    elif order and order[2] == "J":
        lines = lines[: row + 1]
        lines[row] = lines[row][:col]
    elif order and order[2] == "K":
        lines[row] = lines[row][:col]
    elif part == "\r":
        col = 0
    elif part == "\n":
        row += 1
        lines += [""] * (row + 1 - len(lines))
    elif not order:
        text = part.replace("\a", "")
        lines[row] = lines[row][:col].ljust(col) + text + lines[row][col + len(text):]
        col += len(text)
        # what is printed once wraps by words; what is redrawn must not wrap at all
        if "━" in lines[row] or "╌" in lines[row]:
            wide = max(wide, sum(width(c) for c in lines[row]))
if os.environ.get("FITS"):
    wide = max([wide] + [sum(width(c) for c in line.rstrip()) for line in lines if "satchel " not in line])
print("\n".join(lines))
if wide > columns:
    print(f"a line of {wide} columns on a terminal of {columns}")
    status = 99
if "\\x1b" in said.decode(errors="replace"):
    print("a colour is printed as letters")
    status = 99
sys.exit(status)
