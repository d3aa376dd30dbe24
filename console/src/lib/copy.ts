/** Copies a text, also where the page is not served over a secure connection. */
export async function copyText(text: string): Promise<boolean> {
  if (window.isSecureContext && navigator.clipboard) {
    try {
      await navigator.clipboard.writeText(text);
      return true;
    } catch {
      // Not allowed: the older way may be.
    }
  }
  const active = document.activeElement as HTMLElement | null;
  const area = document.createElement('textarea');
  area.value = text;
  area.readOnly = true;
  area.className = 'offscreen';
  document.body.append(area);
  area.select();
  const copied = document.execCommand('copy');
  area.remove();
  active?.focus();
  return copied;
}
