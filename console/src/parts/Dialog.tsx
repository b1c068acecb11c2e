import { type ReactNode, useEffect, useRef } from "react";
import { createPortal } from "react-dom";

/**
 * A question in front of the page. Escape and the edge close it.
 *
 * It stands beside the page, not in it: a form that it is opened from is not sent when that of the dialog is.
 */
export function Dialog(props: { title: string; close: () => void; children: ReactNode }) {
  const dialog = useRef<HTMLDialogElement>(null);
  useEffect(() => {
    dialog.current?.showModal();
  }, []);
  return createPortal(
    <dialog
      ref={dialog}
      aria-label={props.title}
      onClose={props.close}
      onSubmit={(event) => {
        event.stopPropagation();
      }}
      className="modal"
    >
      <div className="modal-box max-w-2xl rounded-box border border-base-300">
        <h2 className="mb-3 text-base font-semibold">{props.title}</h2>
        {props.children}
      </div>
      <form method="dialog" className="modal-backdrop">
        <button aria-label="Close">close</button>
      </form>
    </dialog>,
    document.body,
  );
}
