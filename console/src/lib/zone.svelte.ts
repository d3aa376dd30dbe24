/** The one time zone in which the console shows instants: UTC, or that of the browser, as the person chooses. */
const HERE = Intl.DateTimeFormat().resolvedOptions().timeZone || 'UTC';

class Zone {
  name: string = $state('UTC');

  constructor() {
    if (globalThis.localStorage?.getItem('kanzlei-zone') === 'here') this.name = HERE;
  }

  get other() {
    return this.name === 'UTC' ? HERE : 'UTC';
  }

  toggle() {
    this.name = this.other;
    localStorage.setItem('kanzlei-zone', this.name === 'UTC' ? 'utc' : 'here');
  }

  /** `2027-03-04 06:00:00`. */
  text(instant: string | number): string {
    return new Date(instant).toLocaleString('sv-SE', { timeZone: this.name, dateStyle: 'short', timeStyle: 'medium' });
  }
}

export const zone = new Zone();
