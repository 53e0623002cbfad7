import { useState } from "react";
import { Button, Dialog, Field, Trouble } from "./controls";

type Props = {
  title: string;
  verb: string;
  start?: string;
  hint?: string;
  error: unknown;
  pending?: boolean;
  onClose: () => void;
  onGo: (name: string) => void;
};

/** A dialog that asks for a name and nothing else. */
export function NameDialog({ title, verb, start = "", hint, error, pending, onClose, onGo }: Props) {
  const [name, setName] = useState(start);
  return (
    <Dialog open onClose={onClose} title={title}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          onGo(name);
        }}
      >
        <Field label="Name" required autoFocus value={name} onChange={setName} hint={hint} />
        <Trouble error={error} />
        <Button main type="submit" disabled={pending}>
          {verb}
        </Button>
      </form>
    </Dialog>
  );
}
