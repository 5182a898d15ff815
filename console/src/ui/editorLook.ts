import { EditorView } from '@codemirror/view';
import { theme } from '../app/theme';

/** How every editor of the console looks. */
export const look = EditorView.theme({
  '&': { height: '100%', color: theme.text, backgroundColor: theme.surface, fontSize: '13px' },
  '&:focus-within': { outline: `2px solid ${theme.accent}`, outlineOffset: '-2px' },
  '.cm-content': { fontFamily: theme.mono, caretColor: theme.text },
  '.cm-cursor': { borderLeftColor: theme.text },
  '.cm-placeholder': { color: theme.muted, fontStyle: 'italic' },
  '.cm-gutters': { backgroundColor: theme.surface, color: theme.muted, border: 'none' },
  '.cm-tooltip': { backgroundColor: theme.raised, color: theme.text, border: `1px solid ${theme.line}` },
  '.cm-tooltip-autocomplete ul li[aria-selected]': { backgroundColor: theme.accent, color: theme.onAccent },
  '&.cm-focused .cm-selectionBackground, .cm-selectionBackground': { backgroundColor: `${theme.line} !important` },
});
