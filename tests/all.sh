#!/usr/bin/env bash
# Everything that must hold, called by ./lantern test. Words after it go to pytest, and then only pytest runs.
set -euo pipefail
bin=$LANTERN_HOME/venv/bin
[ $# -gt 0 ] && exec "$bin/python" -m pytest "$@"
step() { printf '\n\033[1m%s\033[0m\n' "$1"; }

step "lint, types and import rules"
"$bin/ruff" check src tests measures
"$bin/ruff" format --check src tests measures
"$bin/mypy"
"$bin/lint-imports" --no-cache | tail -n 8
(cd web && npx tsc --noEmit && npm run --silent lint && npm run --silent rules && npm run --silent test)

step "the API document and the types made from it"
"$bin/python" -m taut_lantern.cli openapi "$LANTERN_HOME/openapi.json"
diff -u docs/openapi.json "$LANTERN_HOME/openapi.json" | head -40 && cmp -s docs/openapi.json "$LANTERN_HOME/openapi.json" || { echo "docs/openapi.json is old: run $bin/python -m taut_lantern.cli openapi docs/openapi.json"; exit 1; }
cp web/src/api/schema.d.ts "$LANTERN_HOME/schema.d.ts"
(cd web && npm run --silent api >/dev/null)
cmp -s web/src/api/schema.d.ts "$LANTERN_HOME/schema.d.ts" || { echo "web/src/api/schema.d.ts was old and has been made anew: commit it"; exit 1; }

step "tests"
"$bin/python" -c "from taut_lantern.standins.warm import warm; warm()"
# Those in the browser wait much and compute little: they run beside those that compute, on databases of their own. Those that hold
# something to a time limit come after, alone.
page=$LANTERN_HOME/page.log
timed=(tests/api tests/formats tests/work)
LANTERN_RUN=_page "$bin/python" -m pytest --durations=5 tests/browser >"$page" 2>&1 &
browser=$! failed=0
"$bin/python" -m pytest --durations=5 --ignore=tests/browser "${timed[@]/#/--ignore=}" || failed=1
wait "$browser" || failed=1
step "tests in the browser"
cat "$page"
step "tests with time limits"
"$bin/python" -m pytest --durations=5 "${timed[@]}" || failed=1
exit "$failed"
