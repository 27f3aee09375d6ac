import js from '@eslint/js'
import hooks from 'eslint-plugin-react-hooks'
import ts from 'typescript-eslint'

export default ts.config(
  { ignores: ['generated/schema.d.ts'] },
  js.configs.recommended,
  ...ts.configs.recommended,
  {
    files: ['src/**/*.{ts,tsx}'],
    plugins: { 'react-hooks': hooks },
    rules: {
      'react-hooks/rules-of-hooks': 'error',
      'react-hooks/exhaustive-deps': 'error',
      complexity: ['error', 16],
      'max-lines': ['error', 400],
      '@typescript-eslint/no-unused-vars': ['error', { argsIgnorePattern: '^_' }],
    },
  },
  {
    // Pages and parts ask the api folder; nothing else talks to the service.
    files: ['src/{pages,parts,charts}/**/*.{ts,tsx}'],
    rules: { 'no-restricted-globals': ['error', 'fetch', 'EventSource', 'XMLHttpRequest'] },
  },
)
