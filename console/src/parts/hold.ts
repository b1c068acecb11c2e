/**
 * Whether somebody points at a list or has the focus in it. While that is so, lists are not read again: a row must
 * not move away from under a hand. What a row says changes all the same.
 */
let holders = 0;
/** How long lists are read again although they are held, once somebody has changed something there. */
const OWN_MS = 2000;
let ownUntil = 0;
let waiting: (() => void)[] = [];
const listeners = new Set<() => void>();

export function hold(): void {
  holders += 1;
  if (holders === 1 && !isOwn()) {
    listeners.forEach((act) => {
      act();
    });
  }
}

/** Acts whenever somebody begins to hold a list; gives what ends that. */
export function onHold(act: () => void): () => void {
  listeners.add(act);
  return () => {
    listeners.delete(act);
  };
}

export function release(): void {
  holders = Math.max(0, holders - 1);
  if (holders === 0) {
    const now = waiting;
    waiting = [];
    now.forEach((act) => {
      act();
    });
  }
}

const isOwn = () => performance.now() < ownUntil;

/** Lets lists be read again for a moment: what somebody has done there is seen at once, wherever they point. */
export function showOwnChange(): void {
  ownUntil = performance.now() + OWN_MS;
}

/** Acts now, or once nobody holds a list any more. */
export function whenReleased(act: () => void): void {
  if (holders === 0 || isOwn()) {
    act();
  } else {
    waiting.push(act);
  }
}
