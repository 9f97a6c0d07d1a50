import a11y from "eslint-plugin-jsx-a11y";
import hooks from "eslint-plugin-react-hooks";
import { defineConfig } from "eslint/config";
import ts from "typescript-eslint";

export default defineConfig(
  { ignores: ["dist", "src/api/schema.gen.ts"] },
  ts.configs.strict,
  a11y.flatConfigs.recommended,
  { plugins: { "react-hooks": hooks }, rules: { "react-hooks/rules-of-hooks": "error", "react-hooks/exhaustive-deps": "error" } },
  {
    rules: {
      // What is known to be there is said so, in few places; a wrong one throws at once.
      "@typescript-eslint/no-non-null-assertion": "off",
      // A dialog and the page that asks for a token take the focus when they open.
      "jsx-a11y/no-autofocus": "off",
      // A region that scrolls must be reachable by the keyboard.
      "jsx-a11y/no-noninteractive-tabindex": ["error", { tags: [], roles: ["region", "tabpanel"], allowExpressionValues: true }],
    },
  },
);
