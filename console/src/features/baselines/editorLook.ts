import { HighlightStyle, syntaxHighlighting } from "@codemirror/language";
import { EditorView } from "@codemirror/view";
import { tags } from "@lezer/highlight";

/** The editor in the console's own look: all colours are its tokens, which a shadow root inherits. */
export const look = [
  EditorView.theme({
    "&": {
      color: "var(--color-ink)",
      backgroundColor: "var(--color-sheet)",
      fontSize: "0.86rem",
      border: "1px solid var(--color-muted)",
      borderRadius: "0.25rem",
      height: "100%",
    },
    "&.cm-focused": { outline: "2px solid var(--color-focus)", outlineOffset: "1px" },
    ".cm-scroller": { fontFamily: "var(--font-mono)", lineHeight: "1.5" },
    ".cm-gutters": { backgroundColor: "var(--color-paper)", color: "var(--color-muted)", border: "none" },
    ".cm-activeLine": { backgroundColor: "color-mix(in srgb, var(--color-line) 25%, transparent)" },
    ".cm-activeLineGutter": { backgroundColor: "var(--color-line)", color: "var(--color-ink)" },
    ".cm-cursor": { borderLeftColor: "var(--color-ink)" },
    "&.cm-focused .cm-selectionBackground, .cm-selectionBackground, .cm-content ::selection": {
      backgroundColor: "var(--color-closes-wash)",
    },
    ".cm-tooltip": {
      backgroundColor: "var(--color-sheet)",
      color: "var(--color-ink)",
      border: "1px solid var(--color-muted)",
      borderRadius: "0.25rem",
    },
    ".cm-tooltip.cm-tooltip-autocomplete > ul > li": { padding: "2px 6px" },
    ".cm-tooltip-autocomplete ul li[aria-selected]": {
      backgroundColor: "var(--color-ink)",
      color: "var(--color-paper)",
    },
    ".cm-completionDetail": { fontStyle: "normal", opacity: "0.8" },
    ".cm-diagnostic": { fontFamily: "var(--font-sans)", maxWidth: "40rem" },
    ".cm-diagnostic-error": { borderLeftColor: "var(--color-opens)" },
    ".cm-diagnostic-warning": { borderLeftColor: "var(--color-muted)" },
    ".cm-lintRange-error": {
      backgroundImage: "none",
      borderBottom: "2px wavy var(--color-opens)",
      textDecoration: "underline wavy var(--color-opens)",
    },
    ".cm-lintRange-warning": { backgroundImage: "none", textDecoration: "underline dotted var(--color-muted)" },
    ".cm-panels": { backgroundColor: "var(--color-paper)", color: "var(--color-ink)" },
  }),
  syntaxHighlighting(
    HighlightStyle.define([
      { tag: [tags.propertyName, tags.definition(tags.propertyName)], color: "var(--color-closes)", fontWeight: "600" },
      { tag: tags.comment, color: "var(--color-muted)", fontStyle: "italic" },
      { tag: [tags.string, tags.content], color: "var(--color-ink)" },
      { tag: [tags.separator, tags.punctuation, tags.bracket], color: "var(--color-muted)" },
    ]),
  ),
];
