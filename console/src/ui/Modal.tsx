import { Dialog, DialogPanel, DialogTitle } from "@headlessui/react";
import type { ReactNode } from "react";

/** A question that has to be answered, or left, before anything else. */
export function Modal({ title, close, children }: { title: string; close: () => void; children: ReactNode }) {
  return (
    <Dialog open onClose={close} className="relative z-20">
      <div className="fixed inset-0 bg-black/40" aria-hidden="true" />
      <div className="fixed inset-0 grid place-items-center p-4">
        <DialogPanel className="max-h-[90vh] w-full max-w-xl overflow-y-auto rounded border border-line bg-paper p-6">
          <DialogTitle as="h2" className="mb-2 font-bold">
            {title}
          </DialogTitle>
          {children}
        </DialogPanel>
      </div>
    </Dialog>
  );
}
