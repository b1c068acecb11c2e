import { useMutation, useQueryClient } from "@tanstack/react-query";

import { Dialog } from "./Dialog";
import { Refusal } from "./Faults";

/** Asks before something is lost. */
export function Confirm(props: {
  /** The question. */
  title: string;
  /** What is lost, and what is not. */
  text: string;
  /** What the button says that does it. */
  action: string;
  act: () => Promise<unknown>;
  /** Called once it is done, and when it is not to be done. */
  close: (isDone: boolean) => void;
}) {
  const queries = useQueryClient();
  const act = useMutation({
    mutationFn: props.act,
    onSuccess: () => {
      props.close(true);
    },
    onSettled: () => queries.invalidateQueries(),
  });
  const leave = () => {
    props.close(false);
  };
  return (
    <Dialog title={props.title} close={leave}>
      <p className="mb-3">{props.text}</p>
      <Refusal error={act.error} title="Nothing was changed." />
      <div className="flex justify-end gap-2">
        <button type="button" className="btn btn-sm" onClick={leave}>
          Close
        </button>
        <button
          type="button"
          className="btn btn-error btn-sm"
          disabled={act.isPending}
          onClick={() => {
            act.mutate();
          }}
        >
          {props.action}
        </button>
      </div>
    </Dialog>
  );
}
