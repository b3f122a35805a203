#!/usr/bin/env bash
# Everything that must hold, called by ./lantern test. Words after it go to pytest, and then only pytest runs.
set -euo pipefail
bin=$LANTERN_HOME/venv/bin
[ $# -gt 0 ] && exec "$bin/python" -m pytest "$@"
step() { printf '\n\033[1m%s\033[0m\n' "$1"; }

step "lint, types and import rules"
# What takes a core for a minute each runs side by side: the front end's checks, and the loops that are compiled once for all tests.
web() { cd web && npx tsc --noEmit && npm run --silent lint && npm run --silent rules && npm run --silent test; }
web > "$LANTERN_HOME/web.log" 2>&1 &
of_web=$!
"$bin/python" -c "from taut_lantern.standins.warm import warm; warm()" > "$LANTERN_HOME/warm.log" 2>&1 &
of_warm=$!
trap 'kill $of_web $of_warm 2>/dev/null || true' EXIT
"$bin/ruff" check src tests measures
"$bin/ruff" format --check src tests measures
"$bin/mypy"
"$bin/lint-imports" --no-cache | tail -n 8
wait $of_web || { cat "$LANTERN_HOME/web.log"; exit 1; }
tail -n 6 "$LANTERN_HOME/web.log"

step "the API document and the types made from it"
"$bin/python" -m taut_lantern.cli openapi "$LANTERN_HOME/openapi.json"
diff -u docs/openapi.json "$LANTERN_HOME/openapi.json" | head -40 && cmp -s docs/openapi.json "$LANTERN_HOME/openapi.json" || { echo "docs/openapi.json is old: run $bin/python -m taut_lantern.cli openapi docs/openapi.json"; exit 1; }
cp web/src/api/schema.d.ts "$LANTERN_HOME/schema.d.ts"
(cd web && npm run --silent api >/dev/null)
cmp -s web/src/api/schema.d.ts "$LANTERN_HOME/schema.d.ts" || { echo "web/src/api/schema.d.ts was old and has been made anew: commit it"; exit 1; }
wait $of_warm || { cat "$LANTERN_HOME/warm.log"; exit 1; }

step "tests"
# Most tests compute on one core and wait now and then: files of them run three at a time (tests/conftest.py), each third on databases of its
# own; those that watch a page after the others, as drawing takes all cores. Those that stop workers, or hold something to a time, come last, alone.
page=(tests/browser)
alone=(tests/work tests/formats/test_crafted.py)
failed=0
NUMBA_NUM_THREADS=1 OMP_NUM_THREADS=1 OPENBLAS_NUM_THREADS=1 \
  "$bin/python" -m pytest --durations=5 -n 3 --dist loadfile --no-loadscope-reorder "${alone[@]/#/--ignore=}" "${page[@]/#/--ignore=}" || failed=1
step "tests in the browser"
"$bin/python" -m pytest --durations=5 -n 2 --dist loadfile --no-loadscope-reorder "${page[@]}" || failed=1
step "tests alone"
"$bin/python" -m pytest --durations=5 "${alone[@]}" || failed=1
exit "$failed"
