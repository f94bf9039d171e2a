import { defaultKeymap, history, historyKeymap } from '@codemirror/commands';
import { bracketMatching, HighlightStyle, StreamLanguage, syntaxHighlighting } from '@codemirror/language';
import { toml } from '@codemirror/legacy-modes/mode/toml';
import { lintGutter, lintKeymap, setDiagnostics, type Diagnostic } from '@codemirror/lint';
import { EditorState } from '@codemirror/state';
import { EditorView, highlightActiveLine, keymap, lineNumbers } from '@codemirror/view';
import { tags } from '@lezer/highlight';
import Box from '@mui/material/Box';
import { useEffect, useImperativeHandle, useRef, type Ref } from 'react';
import type { Finding } from '../api/client';
import { mono } from '../theme';

export interface EditorHandle {
  goTo: (line: number, col?: number) => void;
}

const colours = HighlightStyle.define([
  { tag: tags.comment, color: 'var(--mui-palette-text-secondary)', fontStyle: 'italic' },
  { tag: tags.string, color: 'var(--mui-palette-state-good)' },
  { tag: [tags.number, tags.bool, tags.atom], color: 'var(--mui-palette-state-late)' },
  { tag: [tags.propertyName, tags.heading, tags.typeName], color: 'var(--mui-palette-state-busy)', fontWeight: '600' },
]);

const look = EditorView.theme({
  '&': { height: '100%', fontSize: '13px', color: 'var(--mui-palette-text-primary)' },
  '&.cm-focused': { outline: '2px solid var(--mui-palette-primary-main)', outlineOffset: '-2px' },
  '.cm-scroller': { fontFamily: mono, lineHeight: '20px', fontVariantLigatures: 'none' },
  '.cm-gutters': {
    backgroundColor: 'var(--mui-palette-background-paper)',
    color: 'var(--mui-palette-text-secondary)',
    borderRight: '1px solid var(--mui-palette-divider)',
  },
  '.cm-activeLine, .cm-activeLineGutter': { backgroundColor: 'var(--mui-palette-soft)' },
  '.cm-cursor': { borderLeftColor: 'var(--mui-palette-text-primary)' },
  '.cm-selectionBackground, &.cm-focused .cm-selectionBackground': {
    backgroundColor: 'color-mix(in srgb, var(--mui-palette-primary-main) 28%, transparent) !important',
  },
  '.cm-tooltip': {
    backgroundColor: 'var(--mui-palette-background-paper)',
    color: 'var(--mui-palette-text-primary)',
    border: '1px solid var(--mui-palette-divider)',
  },
});

interface Props {
  initial: string;
  file: string;
  findings: Finding[];
  changed: (text: string) => void;
  ref?: Ref<EditorHandle>;
}

/** A text editor for a pipeline file that underlines what the service finds. Tab leaves it, as on any page. */
export function Editor({ initial, file, findings, changed, ref }: Props) {
  const host = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(undefined);
  const tell = useRef(changed);
  useEffect(() => {
    tell.current = changed;
  });
  useEffect(() => {
    if (!host.current) return;
    const made = new EditorView({
      parent: host.current,
      state: EditorState.create({
        doc: initial,
        extensions: [
          lineNumbers(),
          history(),
          bracketMatching(),
          highlightActiveLine(),
          lintGutter(),
          StreamLanguage.define(toml),
          syntaxHighlighting(colours),
          look,
          keymap.of([...defaultKeymap, ...historyKeymap, ...lintKeymap]),
          EditorView.contentAttributes.of({ 'aria-label': `Text of ${file}`, spellcheck: 'false' }),
          EditorView.updateListener.of((u) => {
            if (u.docChanged) tell.current(u.state.doc.toString());
          }),
        ],
      }),
    });
    made.scrollDOM.tabIndex = 0; // who has no mouse scrolls, too
    view.current = made;
    return () => {
      made.destroy();
    };
  }, [initial, file]);
  useEffect(() => {
    const v = view.current;
    if (!v) return;
    const list: Diagnostic[] = findings
      .filter((f) => f.file === file && f.line > 0 && f.line <= v.state.doc.lines)
      .map((f) => {
        const line = v.state.doc.line(f.line);
        const from = Math.min(line.to, line.from + Math.max(0, f.col - 1));
        return {
          from,
          to: Math.max(from, line.to),
          severity: f.severity,
          message: f.fix ? `${f.message}\n${f.fix}` : f.message,
          source: f.code,
        };
      });
    v.dispatch(setDiagnostics(v.state, list));
  }, [findings, file, initial]);
  useImperativeHandle(
    ref,
    () => ({
      goTo: (line, col = 1) => {
        const v = view.current;
        if (!v || line < 1 || line > v.state.doc.lines) return;
        const at = v.state.doc.line(line);
        const pos = Math.min(at.to, at.from + col - 1);
        v.dispatch({ selection: { anchor: pos }, effects: EditorView.scrollIntoView(pos, { y: 'center' }) });
        v.focus();
      },
    }),
    [],
  );
  return <Box ref={host} sx={{ height: '100%', minHeight: 0, overflow: 'hidden' }} />;
}
