import {
  autocompletion,
  closeBrackets,
  closeBracketsKeymap,
  completionKeymap,
  type CompletionContext,
  type CompletionResult,
} from '@codemirror/autocomplete';
import { defaultKeymap, history, historyKeymap } from '@codemirror/commands';
import { setDiagnostics } from '@codemirror/lint';
import { Compartment, EditorState } from '@codemirror/state';
import { drawSelection, EditorView, keymap, placeholder } from '@codemirror/view';
import { useEffect, useRef } from 'react';
import type { ModelOverview, RuleMistake, TypeSheet } from '../../lib/interface';
import { nonce } from '../../lib/nonce';
import { look } from '../editorLook';
import { completionsAt } from './completions';

interface Props {
  label: string;
  type: TypeSheet;
  model: ModelOverview;
  claims: string[];
  text: string;
  mistake: RuleMistake | null;
  disabled: boolean;
  onChange: (text: string) => void;
}

/** A small editor for one rule. Tab moves on, as everywhere on the page. */
export default function RuleEditor({ label, type, model, claims, text, mistake, disabled, onChange }: Props) {
  const host = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView | null>(null);
  const known = useRef({ type, model, claims, onChange });
  useEffect(() => {
    known.current = { type, model, claims, onChange };
  });
  useEffect(() => {
    if (!host.current) return;
    const editable = new Compartment();
    const complete = (context: CompletionContext): CompletionResult | null => {
      const { type, model, claims } = known.current;
      const before = context.state.sliceDoc(0, context.pos);
      return completionsAt(before, { type, model, claims }, context.explicit);
    };
    const created = new EditorView({
      parent: host.current,
      state: EditorState.create({
        doc: text,
        extensions: [
          EditorView.cspNonce.of(nonce),
          EditorView.contentAttributes.of({ 'aria-label': `${label}, a rule in CEL`, tabindex: '0' }),
          history(),
          drawSelection(),
          EditorView.lineWrapping,
          closeBrackets(),
          autocompletion({ override: [complete] }),
          look,
          placeholder('none; such as row.ownerId == claims.sub'),
          editable.of([EditorView.editable.of(!disabled), EditorState.readOnly.of(disabled)]),
          keymap.of([...closeBracketsKeymap, ...completionKeymap, ...defaultKeymap, ...historyKeymap]),
          EditorView.updateListener.of((update) => {
            if (update.docChanged) known.current.onChange(update.state.doc.toString());
          }),
        ],
      }),
    });
    view.current = created;
    return () => {
      created.destroy();
      view.current = null;
    };
    // The editor owns its text once it is there.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [label, disabled]);

  useEffect(() => {
    const editor = view.current;
    if (!editor) return;
    const { doc } = editor.state;
    const line = mistake && mistake.line >= 1 && mistake.line <= doc.lines ? doc.line(mistake.line) : null;
    const from = line ? Math.min(line.from + Math.max(0, (mistake?.column ?? 1) - 1), doc.length) : 0;
    const marks =
      mistake && line ? [{ from, to: Math.max(from, line.to), severity: 'error' as const, message: mistake.text }] : [];
    editor.dispatch(setDiagnostics(editor.state, marks));
  }, [mistake]);

  return <div ref={host} />;
}
