import type { ReactNode } from "react";
import { Button } from "./Button";

/** The one way out of a dialog that has nothing more to ask. */
export function DialogEnd({ close, children = "Done" }: { close: () => void; children?: ReactNode }) {
  return (
    <div className="mt-4 flex justify-end">
      <Button look="strong" onClick={close}>
        {children}
      </Button>
    </div>
  );
}
