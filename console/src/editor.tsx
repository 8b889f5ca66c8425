import { autocompletion, type CompletionContext } from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap, indentWithTab } from "@codemirror/commands";
import { yaml } from "@codemirror/lang-yaml";
import { HighlightStyle, syntaxHighlighting } from "@codemirror/language";
import { lintGutter, setDiagnostics, type Diagnostic } from "@codemirror/lint";
import { EditorState } from "@codemirror/state";
import { EditorView, keymap, lineNumbers } from "@codemirror/view";
import { tags } from "@lezer/highlight";
import { useEffect, useRef } from "react";
import type { Finding } from "./api";
import { useWords } from "./queries";

// complete offers the words of plans that begin like what is being written.
const complete = (words: () => string[]) => (context: CompletionContext) => {
  const word = context.matchBefore(/[a-z_0-9]+/i);
  if (!word || (word.from === word.to && !context.explicit)) return null;
  return { from: word.from, options: words().map((label) => ({ label })) };
};

const colors = HighlightStyle.define([
  { tag: tags.propertyName, color: "var(--amber)" },
  { tag: tags.comment, color: "var(--soft)", fontStyle: "italic" },
  { tag: [tags.string, tags.content], color: "var(--ink)" },
]);

const look = EditorView.theme({
  "&": { height: "100%", fontSize: "13px", backgroundColor: "var(--sheet)", color: "var(--ink)" },
  ".cm-scroller": { fontFamily: "var(--font-mono)", lineHeight: "1.5" },
  ".cm-content": { caretColor: "var(--amber)" },
  ".cm-gutters": { backgroundColor: "var(--paper)", color: "var(--soft)", border: "none" },
  "&.cm-focused": { outline: "none" },
  ".cm-tooltip": { backgroundColor: "var(--sheet)", color: "var(--ink)", border: "1px solid var(--line)", fontFamily: "var(--font-sans)", maxWidth: "28rem" },
  ".cm-tooltip-autocomplete ul li[aria-selected]": { backgroundColor: "var(--amber-wash)", color: "var(--ink)" },
  ".cm-selectionBackground, &.cm-focused .cm-selectionBackground": { backgroundColor: "var(--amber-wash) !important" },
});

// Editor edits a plan, with its findings in place.
export function Editor({ text, findings, onChange }: { text: string; findings: Finding[]; onChange: (text: string) => void }) {
  const box = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView | null>(null);
  const changed = useRef(onChange);
  changed.current = onChange;
  const words = useRef<string[]>([]);
  words.current = useWords().data ?? [];
  useEffect(() => {
    view.current = new EditorView({
      parent: box.current!,
      state: EditorState.create({
        extensions: [
          lineNumbers(), history(), lintGutter(), yaml(), syntaxHighlighting(colors), look, autocompletion({ override: [complete(() => words.current)] }),
          keymap.of([...defaultKeymap, ...historyKeymap, indentWithTab]),
          EditorView.contentAttributes.of({ "aria-label": "plan" }),
          EditorView.updateListener.of((u) => u.docChanged && changed.current(u.state.doc.toString())),
        ],
      }),
    });
    view.current.scrollDOM.tabIndex = 0; // so that keys scroll it where nothing is to be edited
    return () => view.current?.destroy();
  }, []);
  useEffect(() => {
    const v = view.current!;
    if (v.state.doc.toString() !== text) v.dispatch({ changes: { from: 0, to: v.state.doc.length, insert: text } });
  }, [text]);
  useEffect(() => {
    const v = view.current!;
    const marks: Diagnostic[] = findings.map((f) => {
      const line = v.state.doc.line(Math.min(Math.max(f.line, 1), v.state.doc.lines));
      const from = Math.min(line.from + f.column - 1, line.to);
      return { from, to: Math.max(line.to, from), severity: f.kind, message: `${f.what}; ${f.mend}` };
    });
    v.dispatch(setDiagnostics(v.state, marks));
  }, [findings]);
  return <div ref={box} className="h-full min-h-0 overflow-hidden rounded-lg border border-line" />;
}
