// What is checked beyond types.
import svelte from "eslint-plugin-svelte";
import globals from "globals";
import ts from "typescript-eslint";

export default ts.config(
  { ignores: ["build/", ".svelte-kit/", "src/lib/generated/", "node_modules/"] },
  ...ts.configs.recommended,
  ...svelte.configs.recommended,
  { languageOptions: { globals: { ...globals.browser, ...globals.node } } },
  { files: ["**/*.svelte", "**/*.svelte.ts"], languageOptions: { parserOptions: { parser: ts.parser } } },
  {
    rules: {
      // `void promise` in an effect says that nothing waits for it.
      "@typescript-eslint/no-unused-expressions": ["error", { allowShortCircuit: true, allowTernary: true }],
      "@typescript-eslint/no-unused-vars": ["error", { argsIgnorePattern: "^_", varsIgnorePattern: "^_" }],
      // A space at the end of a line of markup is written as {" "}.
      "svelte/no-useless-mustaches": "off",
      // Addresses are written out; none has a base path.
      "svelte/no-navigation-without-resolve": "off",
      // Maps and sets that are made anew each time need no reactivity of their own.
      "svelte/prefer-svelte-reactivity": "off",
    },
  },
);
