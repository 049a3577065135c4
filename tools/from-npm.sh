#!/usr/bin/env bash
# Brings what tests ask of the npm registry into the virtual environment named as the first argument: an independent checker of SARIF files
# (a program and the schema), and one of a page's accessibility.
set -euo pipefail
bring() { # FOLDER PACKAGE FILE
  local place=$venv/share/$1
  [ -e "$place/package/$3" ] && return
  command -v npm >/dev/null || { echo "make: npm is missing, which brings the tests' checkers (on Debian, as root: apt-get install npm)"; exit 1; }
  mkdir -p "$place"
  echo "bringing $2 for the tests (once)"
  (cd "$place" && file=$(npm pack --silent "$2" 2>/dev/null) && tar xzf "$file" && rm -f "$file")
}
venv=$1
bring sarif @microsoft/sarif-multitool-linux@5.7.0 Sarif.Multitool
chmod +x "$venv/share/sarif/package/Sarif.Multitool"
bring axe axe-core@4.14.1 axe.min.js
