#!/usr/bin/env bash
# Installs the cross compiler and the emulator from Debian's packages where they are missing, builds the firmware, and
# runs check_board.py and check_chips.py against it. Python needs Lark Reader installed; say which with PYTHON=...
set -euo pipefail
cd "$(dirname "$0")"
if ! command -v arm-none-eabi-gcc > /dev/null || ! command -v qemu-system-arm > /dev/null \
  || ! echo '#include <string.h>' | arm-none-eabi-gcc -E - > /dev/null 2>&1; then
  if ! command -v apt-get > /dev/null || [ "$(id -u)" != 0 ]; then
    echo "arm-none-eabi-gcc with newlib, or qemu-system-arm, is missing; install both, or run this as root on Debian" >&2
    exit 2
  fi
  apt-get update -qq > /dev/null
  apt-get install -qq --no-install-recommends gcc-arm-none-eabi libnewlib-arm-none-eabi qemu-system-arm > /dev/null
fi
if ! command -v avr-gcc > /dev/null || [ ! -e /usr/include/simavr/sim_avr.h ]; then # without it the AVR is left out
  if command -v apt-get > /dev/null && [ "$(id -u)" = 0 ]; then
    apt-get install -qq --no-install-recommends gcc-avr avr-libc libsimavr-dev > /dev/null || true
  fi
fi
"${PYTHON:-python3}" check_board.py
"${PYTHON:-python3}" check_chips.py
