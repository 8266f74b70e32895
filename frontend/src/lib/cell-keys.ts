// Moving through the cells of a table by keyboard: arrows, Home and End; one cell at a time is in the order of Tab.

/** An attachment for a table. `ontold` is given the statement of the cell that is pointed at or has the focus. */
export function cellKeys(ontold: (statement: string) => void) {
  return (table: HTMLTableElement) => {
    const cells = (row: Element) => [...row.querySelectorAll<HTMLElement>(':scope > th, :scope > td')];
    const cellOf = (target: EventTarget | null) =>
      (target as HTMLElement | null)?.closest<HTMLElement>('th, td') ?? null;

    function tell(event: Event): void {
      const cell = cellOf(event.target);
      ontold(cell?.querySelector<HTMLElement>('[data-said]')?.dataset.said ?? '');
    }

    function focusOn(cell: HTMLElement | undefined): void {
      if (!cell) return;
      for (const other of table.querySelectorAll('[tabindex="0"]:is(th, td)')) other.setAttribute('tabindex', '-1');
      cell.setAttribute('tabindex', '0');
      cell.focus();
      cell.scrollIntoView({ block: 'nearest' });
    }

    function onkeydown(event: KeyboardEvent): void {
      const cell = event.target as HTMLElement;
      const row = cell.parentElement;
      if (!cell.matches('th, td') || !row || event.ctrlKey || event.metaKey || event.altKey) return;
      const rows = [...table.querySelectorAll('tbody > tr:not([aria-hidden]), tfoot > tr')];
      const [at, across] = [rows.indexOf(row), cells(row).indexOf(cell)];
      const beside = (by: number) => {
        const other = rows[at + by];
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
        PageDown: () => beside(Math.min(10, rows.length - 1 - at)),
        PageUp: () => beside(-Math.min(10, at)),
      };
      const move = moves[event.key];
      if (move) {
        event.preventDefault();
        focusOn(move());
      } else if (event.key === 'Enter') {
        row.querySelector<HTMLElement>('a')?.click();
      } else if (event.key === ' ') {
        event.preventDefault();
        row.querySelector<HTMLElement>('input[type=checkbox]')?.click();
      }
    }

    const quiet = () => ontold('');
    table.addEventListener('keydown', onkeydown);
    table.addEventListener('focusin', tell);
    table.addEventListener('pointerover', tell);
    table.addEventListener('pointerleave', quiet);
    return () => {
      table.removeEventListener('keydown', onkeydown);
      table.removeEventListener('focusin', tell);
      table.removeEventListener('pointerover', tell);
      table.removeEventListener('pointerleave', quiet);
    };
  };
}
