// Something that a button starts: while it is under way it can't be started again, and the button says so.
export class Once {
  busy = $state(false);

  async run(what: (() => unknown) | undefined): Promise<void> {
    if (this.busy) return;
    this.busy = true;
    try {
      await what?.();
    } finally {
      this.busy = false;
    }
  }
}
