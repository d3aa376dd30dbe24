/** The page that the address names. Links are ordinary links; clicks on them stay in the console. */
class Router {
  path = $state(window.location.pathname);
  query = $state(new URLSearchParams(window.location.search));
  /** The anchor, without its mark. */
  hash = $state(window.location.hash.slice(1));

  constructor() {
    window.history.scrollRestoration = 'manual';
    window.addEventListener('popstate', (event) => {
      this.read();
      restore((event.state as { scroll?: number } | null)?.scroll ?? 0);
    });
    document.addEventListener('click', (event) => {
      const link = (event.target as Element | null)?.closest?.('a[href]');
      const plain = event.button === 0 && !event.metaKey && !event.ctrlKey && !event.shiftKey && !event.altKey;
      const href = link?.getAttribute('href') ?? '';
      if (!link || !plain || event.defaultPrevented || !href.startsWith('/') || link.hasAttribute('target')) return;
      event.preventDefault();
      this.go(href);
    });
  }

  go(href: string) {
    // Where the page was is kept with it, for the way back.
    window.history.replaceState({ scroll: window.scrollY }, '');
    window.history.pushState({}, '', href);
    window.scrollTo(0, 0);
    this.read();
  }

  /** Sets one filter in the address, without a new entry of the history. */
  filter(name: string, value: string) {
    this.filters({ [name]: value });
  }

  /** Sets several. */
  filters(values: Record<string, string>) {
    const query = new URLSearchParams(this.query);
    for (const [name, value] of Object.entries(values)) {
      if (value) query.set(name, value);
      else query.delete(name);
    }
    const text = query.toString();
    window.history.replaceState(window.history.state, '', text ? `${this.path}?${text}` : this.path);
    this.query = query;
  }

  private read() {
    this.path = window.location.pathname;
    this.query = new URLSearchParams(window.location.search);
    this.hash = window.location.hash.slice(1);
  }
}

/** Scrolls to where a page was as soon as it is long enough again. */
function restore(scroll: number) {
  let tries = 60;
  const step = () => {
    const room = document.documentElement.scrollHeight - window.innerHeight;
    window.scrollTo(0, Math.min(scroll, room));
    if (room < scroll && (tries -= 1) > 0) setTimeout(step, 50);
  };
  step();
}

export const router = new Router();
