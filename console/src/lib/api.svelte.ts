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

  async ask<T>(method: string, path: string, body?: unknown, headers: Record<string, string> = {}): Promise<T> {
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
    const json = response.status === 204 ? null : await response.json().catch(() => null);
    if (response.ok) return json as T;
    if (response.status === 401 && path !== '/session') this.signedIn = false;
    throw new Refused(response.status, json?.title ?? `Status ${response.status}`, json?.detail ?? '', json?.diagnostics ?? [], json ?? {});
  }

  get<T>(path: string): Promise<T> {
    return this.ask<T>('GET', path);
  }

  async resume() {
    try {
      const { csrf } = await this.ask<SignedIn>('GET', '/session');
      this.csrf = csrf ?? '';
      this.signedIn = true;
    } catch {
      this.signedIn = false;
    }
  }

  async signIn(token: string) {
    const { csrf } = await this.ask<SignedIn>('POST', '/session', { token });
    this.csrf = csrf ?? '';
    this.signedIn = true;
  }

  async signOut() {
    await this.ask('DELETE', '/session').catch(() => undefined);
    this.signedIn = false;
  }
}

export const session = new Session();

/** Something that is asked for again and again while it is shown. */
export class Watched<T> {
  value: T | undefined = $state(undefined);
  error: Refused | undefined = $state(undefined);
  private timer: ReturnType<typeof setTimeout> | undefined;
  private stopped = false;

  constructor(
    private path: () => string | undefined,
    private every: number | undefined,
  ) {
    $effect(() => {
      this.path();
      this.stopped = false;
      void this.ask();
      return () => {
        this.stopped = true;
        clearTimeout(this.timer);
      };
    });
  }

  /** Asks at once, beside the regular times. */
  again() {
    void this.ask();
  }

  private async ask() {
    clearTimeout(this.timer);
    const path = this.path();
    if (path === undefined) return;
    try {
      const value = await session.get<T>(path);
      if (path !== this.path() || this.stopped) return;
      this.value = value;
      this.error = undefined;
    } catch (error) {
      if (this.stopped) return;
      this.error = error instanceof Refused ? error : new Refused(0, 'Something went wrong', String(error));
    }
    const wait = this.error ? 3000 : this.every;
    const final = this.error && this.error.status >= 400 && this.error.status < 500;
    if (wait !== undefined && !this.stopped && !final) this.timer = setTimeout(() => void this.ask(), wait);
  }
}
