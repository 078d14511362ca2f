import type { Plan, Schemas } from "../../api/client";
import { Sign } from "../../shared/Sign";
import { Modal } from "../../ui/Modal";
import { useSubmit } from "./queries";

/** The dialog in which somebody signs that they submit a plan. */
export function Submit({ plan, ask, close }: { plan: Plan; ask: Schemas["ToSign"]; close: () => void }) {
  const submit = useSubmit(plan.id);
  return (
    <Modal title="Put this plan in review" close={close}>
      <Sign
        ask={ask}
        label="Sign and put in review"
        command={`idletally plan submit ${plan.id} --sign`}
        give={(signed) => submit.mutate({ signed }, { onSuccess: close })}
        busy={submit.isPending}
        error={submit.error}
        close={close}
      />
    </Modal>
  );
}
