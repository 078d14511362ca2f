import type { Schemas } from "../../api/client";
import { Sign } from "../../shared/Sign";
import { Modal } from "../../ui/Modal";
import { useSignRoster } from "./queries";

/** The dialog in which somebody signs that an edition of the roster is to count. */
export function SignEdition({ digest, ask, close }: { digest: string; ask: Schemas["ToSign"]; close: () => void }) {
  const sign = useSignRoster();
  return (
    <Modal title="Sign that this edition is to count" close={close}>
      <Sign
        ask={ask}
        label="Sign it"
        command={`idletally roster sign ${digest} --sign`}
        give={(signed) => sign.mutate({ digest, signed }, { onSuccess: close })}
        busy={sign.isPending}
        error={sign.error}
        close={close}
      />
    </Modal>
  );
}
