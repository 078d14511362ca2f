import { Component, type ReactNode } from "react";
import { Note } from "./Note";

/**
 * Keeps what fails to be drawn to itself: the frame around it stays, and says what happened. React offers this to
 * classes alone. Give it a key that changes with the page: another page is tried anew.
 */
export class ErrorBoundary extends Component<{ children: ReactNode }, { error?: Error }> {
  override state: { error?: Error } = {};

  static getDerivedStateFromError(error: Error) {
    return { error };
  }

  override render() {
    if (!this.state.error) return this.props.children;
    return (
      <Note>
        This page cannot be shown: {this.state.error.message}.{" "}
        <button type="button" className="underline" onClick={() => location.reload()}>
          Load it anew
        </button>
        ; if that does not help, the console and the service may be of different versions.
      </Note>
    );
  }
}
