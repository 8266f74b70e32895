// Where the focus goes when what had it is taken away: to what stands in its place now, or to the head of a new screen.

const CAN_HAVE_IT = 'a[href], button, input, select, textarea, summary, [tabindex]';
const REMEMBERED = 60;

const usable = (element: HTMLElement) =>
  !element.matches(':disabled, [type=hidden], h1') && element.checkVisibility({ visibilityProperty: true });

/** The head of the screen that is open gets the focus, once there is one. */
export function focusHead(root: HTMLElement): void {
  const head = root.querySelector<HTMLElement>('h1');
  if (!head) return;
  head.tabIndex = -1;
  head.focus({ preventScroll: true });
}

/** An attachment for what holds the screens. */
export function keepFocus(root: HTMLElement) {
  let last: HTMLElement | undefined;
  /** What holds it, from within outwards, and what could be focused before it, the nearest first. */
  let around: Element[] = [];
  let before: HTMLElement[] = [];

  function remember(event: FocusEvent): void {
    last = event.target as HTMLElement;
    around = [];
    for (let element = last.parentElement; element && element !== root; element = element.parentElement)
      around.push(element);
    const all = [...root.querySelectorAll<HTMLElement>(CAN_HAVE_IT)];
    const place = all.indexOf(last);
    before = all.slice(Math.max(0, place - REMEMBERED), Math.max(0, place)).reverse();
  }

  function mend(): void {
    if (!last || document.activeElement !== document.body || document.querySelector('dialog[open]')) return;
    if (last.isConnected && !last.matches(':disabled') && last.checkVisibility()) return; // left by whoever had it
    for (const holder of around) {
      if (!holder.isConnected) continue;
      const there = [...holder.querySelectorAll<HTMLElement>(CAN_HAVE_IT)].filter(usable);
      if (!there.length) continue;
      const previous = before.find((element) => there.includes(element));
      const place = previous ? there.indexOf(previous) + 1 : 0;
      (there[place] ?? there.at(-1))?.focus({ preventScroll: true });
      return;
    }
    focusHead(root);
  }

  // Once the key that took it away has done all it does: a button that is focused earlier would be pressed by it too.
  let waiting: ReturnType<typeof setTimeout> | undefined;
  const observer = new MutationObserver(() => {
    clearTimeout(waiting);
    waiting = setTimeout(mend);
  });
  observer.observe(root, { childList: true, subtree: true, attributes: true, attributeFilter: ['disabled', 'hidden'] });
  root.addEventListener('focusin', remember);
  return () => {
    observer.disconnect();
    clearTimeout(waiting);
    root.removeEventListener('focusin', remember);
  };
}
