import { Dialog } from "./controls";
import { Line } from "./fields";
import { Form, Refused, Send, useEntry } from "./form";

type Props = {
  title: string;
  verb: string;
  start?: string;
  hint?: string;
  onClose: () => void;
  send: (name: string) => Promise<unknown>;
};

/** A dialog that asks for a name and nothing else. */
export function NameDialog({ title, verb, start = "", hint, onClose, send }: Props) {
  const entry = useEntry({ start: { name: start }, send: ({ name }) => send(name) });
  return (
    <Dialog open onClose={onClose} title={title}>
      <Form of={entry}>
        <Line name="name" label="Name" required autoFocus hint={hint} />
        <Refused />
        <Send>{verb}</Send>
      </Form>
    </Dialog>
  );
}
