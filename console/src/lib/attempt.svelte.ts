import { Refused } from './api.svelte';

/** Something that a page asks of the service for its user, and why it was refused. */
export class Attempt {
  error = $state.raw<Refused | undefined>(undefined);

  /** Does it; what it throws is the error from then on. Returns whether it was done. */
  async run(what: () => Promise<void>): Promise<boolean> {
    this.error = undefined;
    try {
      await what();
      return true;
    } catch (refused) {
      this.error = refused instanceof Refused ? refused : new Refused(0, 'It failed', String(refused));
      return false;
    }
  }
}
