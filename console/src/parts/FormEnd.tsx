import type { ReactNode } from "react";

import { Conflict, type Save } from "./Conflict";
import { OtherFaults } from "./Form";

/**
 * What stands in the way of saving, below the fields of a form. `theirs` puts what is saved now into the fields; what is being
 * added has nothing of the kind.
 */
export function NotSaved(props: { fields: string[]; save: Save; theirs: (() => void) | undefined }) {
  return (
    <>
      <OtherFaults fields={props.fields} error={props.save.error} />
      {props.theirs && <Conflict save={props.save} theirs={props.theirs} />}
    </>
  );
}

/** The last row of a form that is a page: its button, that it was saved, and what else can be done with what it shows. */
export function PageEnd(props: {
  save: { isPending: boolean; isSuccess: boolean };
  isNew?: boolean;
  children?: ReactNode;
}) {
  return (
    <div className="flex items-center gap-3 lg:col-span-full">
      <button type="submit" className="btn btn-primary" disabled={props.save.isPending}>
        {props.isNew ? "Add" : "Save"}
      </button>
      <span role="status" className="text-success">
        {props.save.isSuccess && "saved"}
      </span>
      {props.children !== undefined && <span className="ml-auto flex gap-2">{props.children}</span>}
    </div>
  );
}

/** The last row of a form in a dialog. */
export function DialogEnd(props: { isNew: boolean; isReady: boolean; close: () => void }) {
  return (
    <div className="flex justify-end gap-2 sm:col-span-full">
      <button type="button" className="btn btn-sm" onClick={props.close}>
        Cancel
      </button>
      <button type="submit" className="btn btn-primary btn-sm" disabled={!props.isReady}>
        {props.isNew ? "Add" : "Save"}
      </button>
    </div>
  );
}
