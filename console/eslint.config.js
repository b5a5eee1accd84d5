import hooks from "eslint-plugin-react-hooks";
import tseslint from "typescript-eslint";

export default tseslint.config(
  { ignores: ["dist", "src/api/schema.d.ts"] },
  {
    files: ["src/**/*.{ts,tsx}", "watch/**/*.ts"],
    extends: [tseslint.configs.strictTypeChecked],
    languageOptions: { parserOptions: { projectService: true } },
    plugins: { "react-hooks": hooks },
    rules: {
      "react-hooks/rules-of-hooks": "error",
      "react-hooks/exhaustive-deps": "error",
      // Handlers like `onClick={() => mutate()}` are the usual form in React, and numbers in texts are intended.
      "@typescript-eslint/no-confusing-void-expression": "off",
      "@typescript-eslint/restrict-template-expressions": ["error", { allowNumber: true }],
      // Mutations without variables have the type argument `void`, in any position.
      "@typescript-eslint/no-invalid-void-type": "off",
    },
  },
  {
    // Stand-ins for asynchronous functions, and for interfaces that the tests' document may lack.
    files: ["src/test/**", "{src,watch}/**/*.test.{ts,tsx}"],
    rules: {
      "@typescript-eslint/require-await": "off",
      "@typescript-eslint/no-unnecessary-condition": "off",
      "@typescript-eslint/unbound-method": "off",
      "@typescript-eslint/no-non-null-assertion": "off",
    },
  },
  {
    // The clipboard is missing without a secure connection, which its type does not say.
    files: ["src/ui/Copy.tsx"],
    rules: { "@typescript-eslint/no-unnecessary-condition": "off" },
  },
);
