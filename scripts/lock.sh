#!/usr/bin/env bash
# Pins every Python package with hashes, and no address of where it came from.
set -euo pipefail
cd "$(dirname "$0")/.."
for kind in run dev; do
  extra=(); [ $kind = dev ] && extra=(--extra dev)
  .venv/bin/uv pip compile -q pyproject.toml "${extra[@]}" --generate-hashes --no-header --no-annotate \
    --no-emit-index-url --no-emit-find-links --python-version 3.11 "$@" -o requirements/$kind.txt
done
