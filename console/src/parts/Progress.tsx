import { duration, size } from "./size";

/** How far something is, with rate and time left. */
export function Progress(props: { what: string; done: number; total: number; rate: number; leftSecs: number | null | undefined }) {
  const share = props.total === 0 ? 0 : Math.min(100, (props.done / props.total) * 100);
  return (
    <div className="mb-2 max-w-3xl">
      <div className="flex flex-wrap justify-between gap-x-4">
        <span className="font-medium break-all">{props.what}</span>
        <span className="text-base-content/75">
          {size(props.done)} of {size(props.total)}
          {props.rate > 0 && `, ${size(Math.round(props.rate))}/s`}
          {props.leftSecs != null && `, ${duration(props.leftSecs)} left`}
        </span>
      </div>
      <progress className="progress progress-secondary w-full" value={share} max={100} aria-label={props.what} />
    </div>
  );
}
