#!/usr/bin/env bash
# Installs the cross compiler and the emulator from Debian's packages where they are missing, builds the firmware, and
# runs check_board.py against it. Python needs Lark Reader installed; say which with PYTHON=...
set -euo pipefail
cd "$(dirname "$0")"
if ! command -v arm-none-eabi-gcc > /dev/null || ! command -v qemu-system-arm > /dev/null; then
  if ! command -v apt-get > /dev/null || [ "$(id -u)" != 0 ]; then
    echo "arm-none-eabi-gcc and qemu-system-arm are missing; install them, or run this as root on Debian" >&2
    exit 2
  fi
  apt-get update -qq > /dev/null
  apt-get install -qq --no-install-recommends gcc-arm-none-eabi qemu-system-arm > /dev/null
fi
exec "${PYTHON:-python3}" check_board.py
