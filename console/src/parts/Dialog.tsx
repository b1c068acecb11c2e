import { type ReactNode, useEffect, useRef } from "react";

/** A question in front of the page. Escape and the edge close it. */
export function Dialog(props: { title: string; close: () => void; children: ReactNode }) {
  const dialog = useRef<HTMLDialogElement>(null);
  useEffect(() => {
    dialog.current?.showModal();
  }, []);
  return (
    <dialog ref={dialog} aria-label={props.title} onClose={props.close} className="modal">
      <div className="modal-box max-w-2xl rounded-box border border-base-300">
        <h2 className="mb-3 text-base font-semibold">{props.title}</h2>
        {props.children}
      </div>
      <form method="dialog" className="modal-backdrop">
        <button aria-label="Close">close</button>
      </form>
    </dialog>
  );
}
