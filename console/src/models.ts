// The pure part of the console, for tests that call it in a browser. Nothing of the console imports it.
export * as app from "./app/model";
export * as change from "./features/change/model";
export * as compare from "./features/compare/model";
export * as baselines from "./features/baselines/model";
export * as drift from "./features/drift/model";
export * as history from "./features/history/model";
export * as look from "./features/look/model";
export * as plans from "./features/plans/model";
export * as settings from "./features/settings/model";
export * as runs from "./features/runs/model";
export * as wish from "./shared/wish";
export * as roles from "./shared/roles";
export { EditorState, Text } from "@codemirror/state";
export { CompletionContext } from "@codemirror/autocomplete";
