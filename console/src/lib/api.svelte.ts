/** The control API, as the console uses it. Its types are generated: see `src/api/types.ts`. */
import type { Diagnostic, Session as SignedIn } from '../api/types';

/** An answer that is no success, with what the service says of it. */
export class Refused extends Error {
  constructor(
    readonly status: number,
    readonly title: string,
    readonly detail: string,
    /** What is wrong with documents, where that is why. */
    readonly findings: Diagnostic[] = [],
    /** The whole problem (RFC 9457). */
    readonly problem: Record<string, unknown> = {},
  ) {
    super(detail || title);
  }
}

class Session {
  /** Undefined until it is known whether somebody is signed in. */
  signedIn: boolean | undefined = $state(undefined);
  private csrf = '';
  /** Who is signed in, and what they may do. */
  who: { name: string; role: string } | undefined = $state.raw(undefined);

  async ask<T>(method: string, path: string, body?: unknown, headers: Record<string, string> = {}): Promise<T> {
    return (await this.exchange<T>(method, path, body, headers)).value as T;
  }

  /** The answer with its tag; no value where it is the one that the caller has. */
  async exchange<T>(method: string, path: string, body?: unknown, headers: Record<string, string> = {}): Promise<{ value: T | undefined; tag: string | null }> {
    let response: Response;
    try {
      response = await fetch(`/api/v1${path}`, {
        method,
        headers: { 'content-type': 'application/json', 'x-csrf-token': this.csrf, ...headers },
        body: body === undefined ? undefined : JSON.stringify(body),
      });
    } catch {
      throw new Refused(0, 'The service does not answer', 'It is stopped or starting. This page tries again by itself.');
    }
    const json = response.status === 204 || response.status === 304 ? null : await response.json().catch(() => null);
    const tag = response.headers.get('etag');
    if (response.status === 304) return { value: undefined, tag };
    if (response.ok) return { value: json as T, tag };
    if (response.status === 401 && path !== '/session') this.signedIn = false;
    throw new Refused(response.status, json?.title ?? `Status ${response.status}`, json?.detail ?? '', json?.diagnostics ?? [], json ?? {});
  }

  get<T>(path: string): Promise<T> {
    return this.ask<T>('GET', path);
  }

  /** Whether the service does not answer, so that it is not known whether somebody is signed in. */
  unreachable = $state(false);

  /** Finds out whether somebody is signed in; tries again while the service does not answer. */
  async resume() {
    try {
      const { csrf, name, role } = await this.ask<SignedIn>('GET', '/session');
      this.csrf = csrf ?? '';
      this.who = { name, role };
      this.signedIn = true;
      this.unreachable = false;
    } catch (error) {
      const refused = error instanceof Refused ? error : undefined;
      this.unreachable = !refused || refused.status === 0 || refused.status >= 500;
      if (this.unreachable) setTimeout(() => void this.resume(), 2000);
      else this.signedIn = false;
    }
  }

  async signIn(token: string) {
    const { csrf, name, role } = await this.ask<SignedIn>('POST', '/session', { token });
    this.csrf = csrf ?? '';
    this.who = { name, role };
    this.signedIn = true;
  }

  async signOut() {
    await this.ask('DELETE', '/session').catch(() => undefined);
    this.signedIn = false;
  }
}

export const session = new Session();

/** The longest wait between two questions of a page on which nothing changes. */
const LONGEST = 20_000;

/**
 * Something that is asked for again and again while it is shown: less often while it does not change, not at all while the page
 * is hidden, and until `every` says that it is final.
 */
export class Watched<T> {
  value: T | undefined = $state.raw(undefined);
  error: Refused | undefined = $state.raw(undefined);
  private timer: ReturnType<typeof setTimeout> | undefined;
  private stopped = false;
  private tag: string | null = null;
  private tagged: string | undefined;
  private waits = 1;

  constructor(
    private path: () => string | undefined,
    private every: number | undefined | ((value: T) => number | undefined),
  ) {
    $effect(() => {
      this.path();
      this.stopped = false;
      this.waits = 1;
      void this.ask();
      const shown = () => {
        if (!document.hidden) void this.ask();
      };
      document.addEventListener('visibilitychange', shown);
      return () => {
        this.stopped = true;
        clearTimeout(this.timer);
        document.removeEventListener('visibilitychange', shown);
      };
    });
  }

  /** Asks at once, beside the regular times. */
  again() {
    this.waits = 1;
    void this.ask();
  }

  private async ask() {
    clearTimeout(this.timer);
    const path = this.path();
    if (path === undefined || document.hidden) return;
    try {
      const known: Record<string, string> = this.tag && this.tagged === path ? { 'if-none-match': this.tag } : {};
      const { value, tag } = await session.exchange<T>('GET', path, undefined, known);
      if (path !== this.path() || this.stopped) return;
      this.waits = value === undefined ? this.waits * 1.5 : 1;
      [this.tag, this.tagged] = [tag, path];
      if (value !== undefined) this.value = value;
      this.error = undefined;
    } catch (error) {
      if (this.stopped) return;
      this.error = error instanceof Refused ? error : new Refused(0, 'Something went wrong', String(error));
    }
    const regular = typeof this.every === 'function' ? this.value && this.every(this.value) : this.every;
    const wait = this.error ? 3000 : regular && Math.max(regular, Math.min(LONGEST, regular * this.waits));
    const final = this.error && this.error.status >= 400 && this.error.status < 500;
    if (wait !== undefined && !this.stopped && !final) this.timer = setTimeout(() => void this.ask(), wait);
  }
}
