/** Lines of code that call an endpoint, with example values. */
import type { Endpoint } from '../api/types';

/** The base address of the endpoints of its host. */
export function baseOf(endpoint: Endpoint): string {
  return endpoint.url.slice(0, endpoint.url.length - endpoint.path.length);
}

const quoted = (text: string) => `'${text.replace(/\\/g, '\\\\').replace(/'/g, "\\'")}'`;

/** A value as JavaScript writes it: `{ nights: 2, 'a-b': 'x' }`. */
export function literal(value: unknown): string {
  if (typeof value === 'string') return quoted(value);
  if (Array.isArray(value)) return `[${value.map(literal).join(', ')}]`;
  if (value !== null && typeof value === 'object') {
    const members = Object.entries(value).map(([key, member]) => `${/^[A-Za-z_$][\w$]*$/.test(key) ? key : quoted(key)}: ${literal(member)}`);
    return members.length ? `{ ${members.join(', ')} }` : '{}';
  }
  return JSON.stringify(value);
}

/** Header fields of the request; the address says which host it is for. */
const sent = (endpoint: Endpoint) => Object.fromEntries(Object.entries(endpoint.request.headers).filter(([name]) => name !== 'Host'));

const bodiless = (method: string) => method === 'GET' || method === 'HEAD';

/** Lines for `fetch`. */
export function fetchLines(endpoint: Endpoint): string {
  const { method, target, body } = endpoint.request;
  const headers = sent(endpoint);
  const files = endpoint.request.files ?? {};
  if (Object.keys(files).length && !bodiless(method)) return formLines(endpoint, files);
  const sends = body !== null && !bodiless(method);
  const all = { ...(sends ? { 'Content-Type': 'application/json' } : {}), ...headers };
  const options = [
    ...(method === 'GET' ? [] : [`  method: ${quoted(method)},`]),
    ...(Object.keys(all).length ? [`  headers: ${literal(all)},`] : []),
    ...(sends ? [`  body: JSON.stringify(${literal(body)}),`] : []),
  ];
  const asked = `${quoted(`${baseOf(endpoint)}${target}`)}${options.length ? `, {\n${options.join('\n')}\n}` : ''}`;
  return [`const response = await fetch(${asked});`, 'if (!response.ok) throw await response.json();', 'const answer = await response.json();'].join('\n');
}

/** Lines for `fetch` that send files, which a page has from an input or a drop. */
function formLines(endpoint: Endpoint, files: Record<string, string>): string {
  const { method, target, body } = endpoint.request;
  const headers = sent(endpoint);
  const whole = files[''];
  const text = (value: unknown) => quoted(typeof value === 'string' ? value : JSON.stringify(value));
  const members = body !== null && typeof body === 'object' ? Object.entries(body) : [];
  const form = whole
    ? []
    : [
        'const form = new FormData();',
        ...members.map(([name, value]) => `form.append(${quoted(name)}, ${text(value)});`),
        ...Object.entries(files).map(([name, file]) => `form.append(${quoted(name)}, file, ${quoted(file)}); // a File or Blob`),
      ];
  return [
    ...form,
    `const response = await fetch(${quoted(`${baseOf(endpoint)}${target}`)}, {`,
    `  method: ${quoted(method)},`,
    ...(Object.keys(headers).length ? [`  headers: ${literal(headers)},`] : []),
    `  body: ${whole ? 'file, // a File or Blob' : 'form,'}`,
    '});',
    'if (!response.ok) throw await response.json();',
  ].join('\n');
}

/** Lines for a client that is typed by the OpenAPI document of all endpoints. */
export function typedLines(endpoint: Endpoint): string {
  const { method, path, query, body } = endpoint.request;
  const headers = sent(endpoint);
  const some = (values: Record<string, string>) => Object.keys(values).length > 0;
  const params = Object.fromEntries(Object.entries({ path, query, header: headers }).filter(([, values]) => some(values)));
  const options = [
    ...(Object.keys(params).length ? [`  params: ${literal(params)},`] : []),
    ...(body !== null && !bodiless(method) ? [`  body: ${literal(body)},`] : []),
  ];
  return [
    '// npm install openapi-fetch openapi-typescript',
    `// npx openapi-typescript ${baseOf(endpoint)}/~/openapi.json --output office.ts`,
    "import createClient from 'openapi-fetch';",
    "import type { paths } from './office';",
    '',
    `const client = createClient<paths>({ baseUrl: ${quoted(baseOf(endpoint))} });`,
    `const { data, error } = await client.${method}(${quoted(endpoint.path)}${options.length ? `, {\n${options.join('\n')}\n}` : ''});`,
  ].join('\n');
}
