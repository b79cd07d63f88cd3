import { Component, type ReactNode } from "react";

/** Shown instead of a page that cannot be drawn, usually because a part of it could not be loaded. */
export class Fault extends Component<{ children: ReactNode }, { error?: Error }> {
  override state: { error?: Error } = {};

  static getDerivedStateFromError(error: Error) {
    return { error };
  }

  override render() {
    const { error } = this.state;
    if (!error) return this.props.children;
    return (
      <main className="mx-auto max-w-xl space-y-4 p-8" data-fault>
        <h1 className="font-semibold text-xl">This page could not be shown</h1>
        <p>
          A part of it could not be loaded, as while the service is away or after it was replaced, or it has a
          fault: <span className="text-muted">{error.message}</span>
        </p>
        <button
          type="button"
          onClick={() => location.reload()}
          className="rounded-md border border-line px-4 py-2 text-sm hover:bg-wash"
        >
          Load it again
        </button>
      </main>
    );
  }
}
