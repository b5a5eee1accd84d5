import { Component, type ReactNode } from "react";

import { Button } from "../ui/Button";
import { Empty } from "../ui/Empty";

type State = { failed: Error | null };

/** A page that failed takes the others not with it. */
export class ErrorBoundary extends Component<{ children: ReactNode }, State> {
  override state: State = { failed: null };

  static getDerivedStateFromError(failed: Error): State {
    return { failed };
  }

  override render(): ReactNode {
    if (this.state.failed === null) {
      return this.props.children;
    }
    return (
      <Empty title="This page failed" action={<Button onClick={() => window.location.reload()}>Load it again</Button>}>
        The broadcasts are not touched by it. If the program was updated a moment ago, loading again is all it needs.
        ({this.state.failed.message})
      </Empty>
    );
  }
}
