import { Component, type ReactNode } from "react";
import { Button } from "./controls";

/** Where part of the page cannot be loaded or breaks, it says so instead of leaving nothing; `at` is the address, and
 * another one is tried anew. */
export class Boundary extends Component<{ at: string; children: ReactNode }, { broken: boolean }> {
  state = { broken: false };

  static getDerivedStateFromError() {
    return { broken: true };
  }

  componentDidUpdate(before: { at: string }) {
    if (this.state.broken && before.at !== this.props.at) this.setState({ broken: false });
  }

  render() {
    if (!this.state.broken) return this.props.children;
    return (
      <section className="p-10">
        <h1>This page could not be shown</h1>
        <p className="my-3 text-soft">
          Its program did not arrive, or broke off. Nothing that was saved is lost; load it again.
        </p>
        <Button onClick={() => window.location.reload()}>Load it again</Button>
      </section>
    );
  }
}
