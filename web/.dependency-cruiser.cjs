/** Imports go one way: shell -> steps -> parts -> bench, kit, api. Steps never import each other. */
module.exports = {
  forbidden: [
    { name: "no-cycles", severity: "error", from: {}, to: { circular: true } },
    {
      name: "steps-apart",
      severity: "error",
      from: { path: "^src/steps/([^/]+)/" },
      to: { path: "^src/steps/([^/]+)/", pathNot: "^src/steps/$1/" },
    },
    { name: "steps-not-shell", severity: "error", from: { path: "^src/steps" }, to: { path: "^src/shell" } },
    { name: "parts-low", severity: "error", from: { path: "^src/parts" }, to: { path: "^src/(steps|shell)" } },
    {
      name: "bench-is-plain",
      severity: "error",
      from: { path: "^src/bench" },
      to: { path: "^src/(steps|shell|kit|api)|node_modules/react" },
    },
    { name: "kit-is-low", severity: "error", from: { path: "^src/kit" }, to: { path: "^src/(steps|shell|bench)" } },
  ],
  options: {
    doNotFollow: { path: "node_modules" },
    tsPreCompilationDeps: true,
    tsConfig: { fileName: "tsconfig.json" },
  },
};
