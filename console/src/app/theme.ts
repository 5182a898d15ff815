import { createGlobalStyle } from 'styled-components';

/** Colours by role. Components name roles; raw colours stand here only. */
export const theme = {
  ground: 'var(--ground)',
  surface: 'var(--surface)',
  raised: 'var(--raised)',
  line: 'var(--line)',
  text: 'var(--text)',
  muted: 'var(--muted)',
  accent: 'var(--accent)',
  onAccent: 'var(--on-accent)',
  danger: 'var(--danger)',
  dangerGround: 'var(--danger-ground)',
  syntaxField: 'var(--syntax-field)',
  syntaxText: 'var(--syntax-text)',
  syntaxNumber: 'var(--syntax-number)',
  syntaxWord: 'var(--syntax-word)',
  mono: "ui-monospace, 'DejaVu Sans Mono', Menlo, Consolas, monospace",
} as const;

export const GlobalStyle = createGlobalStyle`
  :root {
    --ground: #ece9e2; --surface: #fbfaf7; --raised: #f2efe8; --line: #cfc9bb; --text: #23282b; --muted: #5b6266;
    --accent: #1f5f57; --on-accent: #ffffff; --danger: #a1301c; --danger-ground: #fbe9e4;
    --syntax-field: #1c5480; --syntax-text: #7a4a10; --syntax-number: #7b2f6b; --syntax-word: #1f5f57;
  }
  @media (prefers-color-scheme: dark) {
    :root {
      --ground: #15191b; --surface: #1d2325; --raised: #262d30; --line: #3c474b; --text: #e6e5df; --muted: #a5aeb0;
      --accent: #7cc7b5; --on-accent: #0e1d1a; --danger: #f0a08c; --danger-ground: #3a221d;
      --syntax-field: #8fc0ea; --syntax-text: #e2b878; --syntax-number: #dba3cd; --syntax-word: #7cc7b5;
    }
  }
  * { box-sizing: border-box; }
  html, body, #root { height: 100%; margin: 0; }
  body { background: var(--ground); color: var(--text); font: 14px/1.45 system-ui, 'DejaVu Sans', sans-serif; }
  :focus-visible, [data-focus-visible] { outline: 2px solid var(--accent); outline-offset: 2px; }
  .visually-hidden { position: absolute; width: 1px; height: 1px; overflow: hidden; clip-path: inset(50%); white-space: nowrap; }
`;
