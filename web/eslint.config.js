import vue from "eslint-plugin-vue";
import ts from "typescript-eslint";

// Our own drawings: the map, the ledger, sums, copies of a volume, who reaches whom, the lanes of gates.
const INSTRUMENTS = ["BarnMap", "LedgerTable", "SumFigure", "CopyStaff", "ReachMatrix", "GateLanes"];

export default ts.config(
  { ignores: ["dist/", "node_modules/", "src/api/schema.gen.ts"] },
  ...ts.configs.recommended,
  ...vue.configs["flat/essential"],
  { files: ["**/*.vue"], languageOptions: { parserOptions: { parser: ts.parser } } },
  { rules: { "vue/multi-word-component-names": "off" } },
  // Controls are the library's, dressed once; only the instruments draw their own.
  {
    files: ["src/**/*.vue"],
    rules: {
      "vue/no-restricted-html-elements": [
        "error",
        ...["button", "input", "select", "textarea", "table", "details", "dialog", "progress"].map(
          (element) => ({
            element,
            message: `Use the library's control instead of a bare <${element}>.`,
          }),
        ),
      ],
    },
  },
  {
    files: INSTRUMENTS.map((name) => `src/**/${name}.vue`),
    rules: { "vue/no-restricted-html-elements": "off" },
  },
);
