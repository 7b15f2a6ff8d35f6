import { Component, type ReactNode } from "react";

type Props = { place: string; children: ReactNode };
type State = { error: Error | null; place: string };

/** What is shown instead of a view that broke; another view, or another try, begins afresh. */
export class ErrorBoundary extends Component<Props, State> {
  override state: State = { error: null, place: this.props.place };

  static getDerivedStateFromError(error: Error): Partial<State> {
    return { error };
  }

  static getDerivedStateFromProps({ place }: Props, state: State): Partial<State> | null {
    return place === state.place ? null : { error: null, place };
  }

  override render() {
    const { error } = this.state;
    if (!error) return this.props.children;
    const isOld = /dynamically imported module|Importing a module/.test(error.message);
    return (
      <section role="alert" className="max-w-[640px] p-6">
        <h1 className="mb-2 text-title font-semibold tracking-tight">This view cannot be shown.</h1>
        <p className="mb-3">
          {isOld
            ? "Part of the application could not be loaded: the server is away, or it was upgraded since this page was opened."
            : "It stopped with an error. Nothing was changed by it; the rest of Lumtar goes on."}
        </p>
        <p className="figures mb-4 text-small break-words text-ink2">{error.message}</p>
        <p className="flex gap-2">
          <button type="button" className="button" onClick={() => this.setState({ error: null })}>
            Try again
          </button>
          <button type="button" className="button" onClick={() => window.location.reload()}>
            Reload the page
          </button>
          <a href="/" className="button">
            Go to Now
          </a>
        </p>
      </section>
    );
  }
}
