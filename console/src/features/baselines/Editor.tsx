import {
  autocompletion,
  closeBrackets,
  closeBracketsKeymap,
  completionKeymap,
  type CompletionSource,
} from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap } from "@codemirror/commands";
import { yaml } from "@codemirror/lang-yaml";
import { bracketMatching, indentOnInput } from "@codemirror/language";
import { lintGutter, lintKeymap, setDiagnostics, type Diagnostic } from "@codemirror/lint";
import { EditorState } from "@codemirror/state";
import {
  drawSelection,
  EditorView,
  highlightActiveLine,
  highlightActiveLineGutter,
  keymap,
  lineNumbers,
} from "@codemirror/view";
import { useEffect, useRef } from "react";
import { look } from "./editorLook";
import type { Remark } from "./model";

/** The place of a remark: from its column to the end of the word or value that begins there. */
function spot(state: EditorState, r: Remark): Diagnostic {
  const line = state.doc.line(Math.min(Math.max(r.line, 1), state.doc.lines));
  const from = Math.min(line.from + Math.max(r.column, 1) - 1, line.to);
  const word = /^("[^"]*"|[^\s,\]}#]+)/.exec(line.text.slice(from - line.from));
  return {
    from,
    to: Math.min(from + (word?.[0].length ?? 1), line.to),
    severity: r.grave ? "error" : "warning",
    message: r.text,
  };
}

/**
 * The text of a baseline. It lives in a shadow root, where its styles are adopted and not written
 * into the page, which the content security policy would refuse.
 */
export function Editor({
  text,
  change,
  remarks,
  complete,
}: {
  text: string;
  change: (text: string) => void;
  remarks: readonly Remark[];
  complete: CompletionSource;
}) {
  const place = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  const outside = useRef({ change, complete, text });
  useEffect(() => {
    outside.current = { change, complete, text };
  });
  useEffect(() => {
    const root = place.current!.shadowRoot ?? place.current!.attachShadow({ mode: "open" });
    const v = new EditorView({
      root,
      parent: root,
      state: EditorState.create({
        doc: outside.current.text,
        extensions: [
          lineNumbers(),
          highlightActiveLineGutter(),
          highlightActiveLine(),
          history(),
          drawSelection(),
          indentOnInput(),
          bracketMatching(),
          closeBrackets(),
          lintGutter(),
          yaml(),
          autocompletion({ override: [(c) => outside.current.complete(c)], icons: false }),
          keymap.of([...closeBracketsKeymap, ...defaultKeymap, ...historyKeymap, ...completionKeymap, ...lintKeymap]),
          EditorView.contentAttributes.of({ "aria-label": "Text of the baseline", spellcheck: "false", tabindex: "0" }),
          EditorView.updateListener.of((u) => {
            if (u.docChanged) outside.current.change(u.state.doc.toString());
          }),
          ...look,
        ],
      }),
    });
    view.current = v;
    return () => v.destroy();
  }, []);
  useEffect(() => {
    const v = view.current;
    if (v && v.state.doc.toString() !== text)
      v.dispatch({ changes: { from: 0, to: v.state.doc.length, insert: text } });
  }, [text]);
  useEffect(() => {
    const v = view.current;
    if (v)
      v.dispatch(
        setDiagnostics(
          v.state,
          remarks.map((r) => spot(v.state, r)),
        ),
      );
  }, [remarks]);
  return <div ref={place} className="h-full min-h-96" />;
}
