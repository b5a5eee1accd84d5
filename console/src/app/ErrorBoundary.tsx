import { Component, type ReactNode } from "react";

import { useLocation } from "react-router";

import { Button } from "../ui/Button";
import { Empty } from "../ui/Empty";

type State = { failed: Error | null };

/** Error boundary of a page, reset by navigation. */
export function ErrorBoundary({ children }: { children: ReactNode }): ReactNode {
  return <Boundary place={useLocation().key}>{children}</Boundary>;
}

type Props = { place: string; children: ReactNode };

class Boundary extends Component<Props, State> {
  override state: State = { failed: null };

  static getDerivedStateFromError(failed: Error): State {
    return { failed };
  }

  override componentDidUpdate(before: Props): void {
    if (before.place !== this.props.place && this.state.failed !== null) {
      this.setState({ failed: null });
    }
  }

  override render(): ReactNode {
    if (this.state.failed === null) {
      return this.props.children;
    }
    return (
      <Empty title="This page failed" action={<Button onClick={() => window.location.reload()}>Reload</Button>}>
        Broadcasts are not affected. Reload the page, for instance after an update of the program. (
        {this.state.failed.message})
      </Empty>
    );
  }
}
