/** What breaks while it is drawn is told where it broke; the rest of the page goes on. */
import { Component, type ReactNode } from "react";
import { Button } from ".";

export class Boundary extends Component<{ what: string; children: ReactNode }, { error: Error | null }> {
  override state = { error: null as Error | null };
  static getDerivedStateFromError(error: Error) {
    return { error };
  }
  override render() {
    if (!this.state.error) return this.props.children;
    return (
      <div role="alert" className="grid h-full place-items-center p-6">
        <div className="max-w-md">
          <p className="font-semibold text-parted">{this.props.what} cannot be shown.</p>
          <p className="my-2 text-[13px] text-quiet">
            {this.state.error.message}. Nothing of the project is lost; what is on the server stays as it is.
          </p>
          <Button main onClick={() => this.setState({ error: null })}>
            Show it again
          </Button>
        </div>
      </div>
    );
  }
}
