/** Light or dark; the system's choice until the person makes one. */
type Choice = 'light' | 'dark';

class Theme {
  choice: Choice = $state('light');

  start() {
    const kept = localStorage.getItem('kanzlei-theme');
    const dark = window.matchMedia('(prefers-color-scheme: dark)').matches;
    this.set(kept === 'dark' || kept === 'light' ? kept : dark ? 'dark' : 'light');
  }

  toggle() {
    const other = this.choice === 'light' ? 'dark' : 'light';
    localStorage.setItem('kanzlei-theme', other);
    this.set(other);
  }

  private set(choice: Choice) {
    this.choice = choice;
    document.documentElement.setAttribute('theme', choice === 'dark' ? 'g100' : 'g10');
    document.documentElement.style.colorScheme = choice;
  }
}

export const theme = new Theme();
