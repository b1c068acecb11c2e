/** What was recognised, each with the place where it was read. */
export function Recognised({ rows, notes }: { rows: string[][]; notes: string[] }) {
  if (rows.length === 0 && notes.length === 0) {
    return <p className="text-base-content/75">Nothing: all values were entered by hand.</p>;
  }
  return (
    <>
      <table className="w-full max-w-4xl text-left">
        <tbody>
          {rows.map(([what = "", value = "", from = ""]) => (
            <tr key={what + value + from} className="border-b border-base-200 align-top">
              <th scope="row" className="w-32 p-1 font-normal text-base-content/70">
                {what}
              </th>
              <td className="p-1 break-all">{value}</td>
              <td className="hidden p-1 text-xs break-all text-base-content/70 sm:table-cell">{from}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {notes.map((note) => (
        <p key={note} className="mt-1 border-l-4 border-secondary pl-2 text-base-content/80">
          {note}
        </p>
      ))}
    </>
  );
}
