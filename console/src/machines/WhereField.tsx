import { useState } from "react";

/** A condition on what was measured of machines; it counts once it is entered. */
export function WhereField({ condition, change }: { condition: string; change: (condition: string) => void }) {
  const [typed, setTyped] = useState(condition);
  return (
    <form
      className="mb-2 flex flex-wrap items-center gap-2"
      onSubmit={(event) => {
        event.preventDefault();
        change(typed.trim());
      }}
    >
      <label className="input input-sm w-full sm:w-[32rem]">
        <span className="text-base-content/70">where</span>
        <input
          className="font-mono text-xs"
          aria-label="Where, by what was measured"
          placeholder="memory_gib >= 256 and disks | length > 2"
          value={typed}
          onChange={(event) => {
            setTyped(event.target.value);
          }}
        />
      </label>
      <button type="submit" className="btn btn-sm">
        Apply
      </button>
      {condition !== "" && (
        <button
          type="button"
          className="btn btn-ghost btn-sm"
          onClick={() => {
            setTyped("");
            change("");
          }}
        >
          Clear
        </button>
      )}
    </form>
  );
}
