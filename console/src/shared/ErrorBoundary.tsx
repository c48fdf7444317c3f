import type { ReactNode } from 'react';
import { Component } from 'react';
import { Notice } from './Notice';

interface State {
  error: Error | undefined;
}

/** Shows what went wrong in the console itself, and how to go on. */
export class ErrorBoundary extends Component<{ children: ReactNode }, State> {
  override state: State = { error: undefined };

  static getDerivedStateFromError(error: Error): State {
    return { error };
  }

  override render() {
    const { error } = this.state;
    if (error === undefined) return this.props.children;
    return (
      <Notice title="The console has failed">
        {error.message}. Load the page again; the service itself is not affected.
      </Notice>
    );
  }
}
