import { useState } from "react";
import type { Schemas } from "../../api/client";
import { Field } from "../../ui/Field";
import { Form } from "../../ui/Form";
import { FormEnd } from "../../ui/FormEnd";
import { Modal } from "../../ui/Modal";
import { TextArea } from "../../ui/TextArea";
import { nextEdition } from "./model";
import { useProposeRoster } from "./queries";

/** The dialog in which an admin proposes the text of an edition. */
export function ProposeRoster({
  edition,
  close,
}: {
  edition: Schemas["RosterEdition"] | undefined;
  close: () => void;
}) {
  const propose = useProposeRoster();
  const [text, setText] = useState(() => (edition ? nextEdition(edition.document, edition.digest, new Date()) : ""));
  return (
    <Modal title="Propose an edition of the roster" close={close}>
      <Form onSubmit={() => propose.mutate(text, { onSuccess: close })}>
        <p className="text-sm">
          {edition
            ? "It begins as the edition that counts: take people and keys out, or put them in. It counts when enough people of that edition have signed it."
            : "The text that idletally roster draft writes. The first edition counts for the hosts that pin it."}
        </p>
        <Field label="Text" className="mt-3 block">
          <TextArea
            className="mt-0.5 block w-full font-mono text-xs"
            rows={14}
            required
            spellCheck={false}
            value={text}
            onChange={(e) => setText(e.target.value)}
          />
        </Field>
        <FormEnd error={propose.error} close={close} submit="Propose it" disabled={propose.isPending} />
      </Form>
    </Modal>
  );
}
