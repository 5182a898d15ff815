import { createGlobalStyle } from 'styled-components';

/** Colours by role. Components name roles; raw colours stand here only. */
export const theme = {
  ground: 'var(--ground)',
  surface: 'var(--surface)',
  raised: 'var(--raised)',
  line: 'var(--line)',
  strongLine: 'var(--strong-line)',
  text: 'var(--text)',
  muted: 'var(--muted)',
  accent: 'var(--accent)',
  accentGround: 'var(--accent-ground)',
  onAccent: 'var(--on-accent)',
  attention: 'var(--attention)',
  attentionGround: 'var(--attention-ground)',
  danger: 'var(--danger)',
  dangerGround: 'var(--danger-ground)',
  done: 'var(--done)',
  doneGround: 'var(--done-ground)',
  onRole: 'var(--on-role)',
  shadow: 'var(--shadow)',
  veil: 'var(--veil)',
  hatch: 'var(--hatch)',
  syntaxField: 'var(--syntax-field)',
  syntaxText: 'var(--syntax-text)',
  syntaxNumber: 'var(--syntax-number)',
  syntaxWord: 'var(--syntax-word)',
  mono: "ui-monospace, 'DejaVu Sans Mono', Menlo, Consolas, monospace",
} as const;

/** The eight colours of roles, told apart by colour-blind eyes too; a ninth role begins anew, and its letters tell it apart. */
export const ROLE_COLOURS = [1, 2, 3, 4, 5, 6, 7, 8].map((number) => `var(--role-${String(number)})`);

/** What cannot be seen by whom one looks as: thin lines over the place where it would be. */
export const hatched = `repeating-linear-gradient(135deg, transparent 0 4px, ${theme.hatch} 4px 5px)`;

const LIGHT = `
  --ground: #ece9e2; --surface: #fbfaf7; --raised: #f2efe8; --line: #cfc9bb; --strong-line: #8b8474; --text: #23282b; --muted: #5b6266;
  --accent: #1f5f57; --accent-ground: #dfece6; --on-accent: #ffffff;
  --attention: #7a5200; --attention-ground: #f8ecd2; --danger: #a1301c; --danger-ground: #fbe9e4; --done: #43641d; --done-ground: #e9f0dc;
  --shadow: 0 6px 24px rgb(35 40 43 / 0.22); --veil: rgb(35 40 43 / 0.28); --hatch: rgb(35 40 43 / 0.24);
  --syntax-field: #1c5480; --syntax-text: #7a4a10; --syntax-number: #7b2f6b; --syntax-word: #1f5f57;
  --on-role: #ffffff; --role-1: #0b5394; --role-2: #a63c00; --role-3: #6a3d8f; --role-4: #00695c;
  --role-5: #735600; --role-6: #a3195b; --role-7: #455a64; --role-8: #47660a;
`;

const DARK = `
  --ground: #121a19; --surface: #1a2322; --raised: #222d2b; --line: #3a4745; --strong-line: #72827f; --text: #e6e5df; --muted: #a5b0ad;
  --accent: #7cc7b5; --accent-ground: #20403a; --on-accent: #0e1d1a;
  --attention: #e5b95c; --attention-ground: #3a3019; --danger: #f0a08c; --danger-ground: #3e241e; --done: #a9cf7a; --done-ground: #26341b;
  --shadow: 0 6px 24px rgb(0 0 0 / 0.6); --veil: rgb(0 0 0 / 0.5); --hatch: rgb(230 229 223 / 0.26);
  --syntax-field: #8fc0ea; --syntax-text: #e2b878; --syntax-number: #dba3cd; --syntax-word: #7cc7b5;
  --on-role: #10201c; --role-1: #7fb8f0; --role-2: #ff9e6b; --role-3: #c9a5ea; --role-4: #5fd0bf;
  --role-5: #e6c15a; --role-6: #f394bf; --role-7: #a9bac2; --role-8: #b5d46a;
`;

export const GlobalStyle = createGlobalStyle`
  :root { ${LIGHT} }
  @media (prefers-color-scheme: dark) { :root:not([data-look='light']) { ${DARK} } }
  :root[data-look='dark'] { ${DARK} color-scheme: dark; }
  :root[data-look='light'] { color-scheme: light; }
  * { box-sizing: border-box; }
  html, body, #root { height: 100%; margin: 0; }
  body {
    background: var(--ground); color: var(--text); font: 13px/1.4 system-ui, 'DejaVu Sans', sans-serif;
    font-variant-numeric: tabular-nums; overflow: hidden;
  }
  h1, h2, h3, h4, p, dl, dd, ul, ol, figure { margin: 0; }
  ul, ol { padding: 0; list-style: none; }
  h1 { font-size: 18px; font-weight: 600; }
  h2 { font-size: 15px; font-weight: 600; }
  h3 { font-size: 13px; font-weight: 600; }
  code, pre, kbd { font-family: ${theme.mono}; font-size: 12px; }
  pre { margin: 0; }
  button, input, select, textarea { font: inherit; color: inherit; }
  :focus-visible, [data-focus-visible] { outline: 2px solid var(--accent); outline-offset: 1px; }
  .visually-hidden { position: absolute; width: 1px; height: 1px; overflow: hidden; clip-path: inset(50%); white-space: nowrap; }
  @media (prefers-reduced-motion: reduce) { * { animation: none !important; transition: none !important; } }
`;
