// A table as one stop of Tab, as the ARIA Authoring Practices have it for grids: arrows, Home, End and Page keys go from cell to
// cell; Enter does what a cell is for or goes inside it, F2 goes inside, Escape comes out.

const INSIDE = 'a[href], button, input, select';
const CELLS = ':scope > th, :scope > td';

/** An attachment for a table with the role of a grid. `ontold` is given the statement of the cell that is pointed at or has the
 *  focus, and whether it has the focus. */
export function cellKeys(ontold: (statement: string, focused: boolean) => void) {
  return (table: HTMLTableElement) => {
    const cells = (row: Element) => [...row.querySelectorAll<HTMLElement>(CELLS)];
    const rows = () => [...table.querySelectorAll('tr:not([aria-hidden])')];
    const cellOf = (target: EventTarget | null) =>
      (target as HTMLElement | null)?.closest<HTMLElement>('th, td') ?? null;
    const inside = (cell: HTMLElement) => [...cell.querySelectorAll<HTMLElement>(INSIDE)];

    function tell(event: Event): void {
      const said = cellOf(event.target)?.querySelector<HTMLElement>('[data-said]')?.dataset.said ?? '';
      ontold(said, event.type === 'focusin');
    }

    /** The cell that Tab comes to, once somebody was in one; until then the first below the headings. */
    let last: HTMLElement | undefined;

    /** One cell can be reached by Tab, and nothing inside any cell. */
    function settle(): void {
      for (const widget of table.querySelectorAll<HTMLElement>(INSIDE)) widget.tabIndex = -1;
      const all = table.querySelectorAll<HTMLElement>(':is(th, td)');
      const there = rows();
      const stop = last?.isConnected ? last : cells(there[1] ?? there[0] ?? table)[0];
      for (const cell of all) cell.tabIndex = cell === stop ? 0 : -1;
    }

    function focusOn(cell: HTMLElement | undefined): void {
      if (!cell) return;
      last = cell;
      settle();
      cell.focus();
      cell.scrollIntoView({ block: 'nearest', inline: 'nearest' });
    }

    function enter(cell: HTMLElement): void {
      const [only, ...others] = inside(cell);
      const link = cell.querySelector<HTMLElement>('a[href]');
      if (link && cell.matches('tbody th')) link.click();
      else if (!only) cell.parentElement?.querySelector<HTMLElement>('a[href]')?.click();
      else if (others.length) only.focus();
      else only.click();
    }

    /** Keys on something inside a cell. */
    function fromInside(event: KeyboardEvent, cell: HTMLElement): void {
      const there = inside(cell);
      const at = there.indexOf(event.target as HTMLElement);
      const step = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
      if (event.key === 'Escape') cell.focus();
      else if (step) there[(at + step + there.length) % there.length]?.focus();
      else return;
      event.preventDefault();
      event.stopPropagation();
    }

    function onkeydown(event: KeyboardEvent): void {
      const cell = cellOf(event.target);
      const row = cell?.parentElement;
      if (!cell || !row || event.ctrlKey || event.metaKey || event.altKey) return;
      if (cell !== event.target) return fromInside(event, cell);
      const all = rows();
      const [at, across] = [all.indexOf(row as HTMLTableRowElement), cells(row).indexOf(cell)];
      const beside = (by: number) => {
        // By pages it goes as far as there are rows; a step up from the first of them leads to the headings.
        const least = Math.abs(by) > 1 ? Math.min(1, at) : 0;
        const other = all[Math.max(least, Math.min(at + by, all.length - 1))];
        const found = other ? cells(other) : [];
        return found[Math.min(across, found.length - 1)];
      };
      const moves: Record<string, () => HTMLElement | undefined> = {
        ArrowDown: () => beside(1),
        ArrowUp: () => beside(-1),
        ArrowRight: () => cells(row)[across + 1],
        ArrowLeft: () => cells(row)[across - 1],
        Home: () => cells(row)[0],
        End: () => cells(row).at(-1),
        PageDown: () => beside(10),
        PageUp: () => beside(-10),
      };
      const move = moves[event.key];
      if (move) focusOn(move());
      else if (event.key === 'Enter') enter(cell);
      else if (event.key === 'F2') inside(cell)[0]?.focus();
      else if (event.key === ' ') row.querySelector<HTMLElement>('input[type=checkbox]')?.click();
      else return;
      event.preventDefault();
    }

    // What is clicked, or focused by other means, is where Tab comes back to.
    function onfocusin(event: FocusEvent): void {
      const cell = cellOf(event.target);
      if (cell) {
        last = cell;
        settle();
      }
      tell(event);
    }
    const quiet = () => ontold('', false);
    const observer = new MutationObserver(() => settle());
    settle();
    observer.observe(table, { childList: true, subtree: true });
    table.addEventListener('keydown', onkeydown);
    table.addEventListener('focusin', onfocusin);
    table.addEventListener('pointerover', tell);
    table.addEventListener('pointerleave', quiet);
    return () => {
      observer.disconnect();
      table.removeEventListener('keydown', onkeydown);
      table.removeEventListener('focusin', onfocusin);
      table.removeEventListener('pointerover', tell);
      table.removeEventListener('pointerleave', quiet);
    };
  };
}
