#!/usr/bin/env bash
# Runs all tests on every Python of 3.11 to 3.13 that the machine has, each in an environment of its own, and says which it lacks.
set -euo pipefail
cd "$(dirname "$0")/.."
failed=0
for version in 3.11 3.12 3.13; do
  python=$(command -v "python$version" || true)
  for place in "$HOME"/.pyenv/versions/"$version".*/bin/python; do [ -n "$python" ] || { [ -x "$place" ] && python=$place; }; done
  if [ -z "$python" ]; then echo "Python $version: this machine has none"; continue; fi
  venv=.venv-$version
  if [ ! -e "$venv/.ready" ]; then
    "$python" -m venv "$venv"
    "$venv/bin/python" -m pip install --quiet --disable-pip-version-check -e '.[test,gather,ldap,mend,history,report,cluster]' && touch "$venv/.ready"
  fi
  echo "Python $version ($("$venv/bin/python" --version))"
  "$venv/bin/python" -m pytest -n auto --dist worksteal -q || failed=1
done
exit $failed
