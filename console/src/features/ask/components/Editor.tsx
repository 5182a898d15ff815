import { defaultKeymap, history, historyKeymap } from '@codemirror/commands';
import { json } from '@codemirror/lang-json';
import { bracketMatching, HighlightStyle, syntaxHighlighting } from '@codemirror/language';
import { Compartment, EditorState, Prec } from '@codemirror/state';
import { drawSelection, EditorView, keymap, lineNumbers } from '@codemirror/view';
import { tags } from '@lezer/highlight';
import { graphql, updateSchema } from 'cm6-graphql';
import { autocompletion, closeBrackets, closeBracketsKeymap, completionKeymap } from '@codemirror/autocomplete';
import { lintKeymap } from '@codemirror/lint';
import type { GraphQLSchema } from 'graphql';
import { useEffect, useRef } from 'react';
import styled from 'styled-components';
import { theme } from '../../../app/theme';
import { nonce } from '../../../lib/nonce';
import { look } from '../../../ui/editorLook';

interface Props {
  label: string;
  language: 'graphql' | 'json';
  text: string;
  schema?: GraphQLSchema | undefined;
  onChange: (text: string) => void;
  onRun: () => void;
}

const highlight = HighlightStyle.define([
  { tag: [tags.propertyName, tags.attributeName, tags.name], color: theme.syntaxField },
  { tag: tags.string, color: theme.syntaxText },
  { tag: [tags.number, tags.bool, tags.null, tags.atom], color: theme.syntaxNumber },
  { tag: [tags.keyword, tags.definitionKeyword, tags.typeName], color: theme.syntaxWord, fontWeight: '600' },
  { tag: tags.comment, color: theme.muted, fontStyle: 'italic' },
]);

/** A text editor for documents or variables. Tab moves on to the next control, as everywhere on the page. */
export default function Editor({ label, language, text, schema, onChange, onRun }: Props) {
  const host = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView | null>(null);
  const handlers = useRef({ onChange, onRun });
  useEffect(() => {
    handlers.current = { onChange, onRun };
  });

  useEffect(() => {
    if (!host.current) return;
    const languageOf = new Compartment();
    const created = new EditorView({
      parent: host.current,
      state: EditorState.create({
        doc: text,
        extensions: [
          EditorView.cspNonce.of(nonce),
          EditorView.contentAttributes.of({ 'aria-label': label, tabindex: '0' }),
          lineNumbers(),
          history(),
          drawSelection(),
          EditorView.lineWrapping,
          bracketMatching(),
          closeBrackets(),
          autocompletion(),
          syntaxHighlighting(highlight),
          look,
          Prec.highest(
            keymap.of([
              {
                key: 'Mod-Enter',
                run: () => {
                  handlers.current.onRun();
                  return true;
                },
              },
            ]),
          ),
          keymap.of([...closeBracketsKeymap, ...defaultKeymap, ...historyKeymap, ...completionKeymap, ...lintKeymap]),
          languageOf.of(language === 'graphql' ? graphql() : json()),
          EditorView.updateListener.of((update) => {
            if (update.docChanged) handlers.current.onChange(update.state.doc.toString());
          }),
        ],
      }),
    });
    view.current = created;
    return () => {
      created.destroy();
      view.current = null;
    };
    // The editor owns its text once it is there: it is made again only for another language or label.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [label, language]);

  useEffect(() => {
    const editor = view.current;
    // Somebody else wrote it, such as the way to the next page.
    if (editor && editor.state.doc.toString() !== text) {
      editor.dispatch({ changes: { from: 0, to: editor.state.doc.length, insert: text } });
    }
  }, [text]);

  useEffect(() => {
    if (view.current && schema) updateSchema(view.current, schema);
  }, [schema]);

  return <Host ref={host} />;
}

const Host = styled.div`
  height: 100%;
  min-height: 0;
`;
