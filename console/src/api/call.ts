import { type Problem, Refused } from './types'

/** One call; an error says what the service says. */
export async function call<T>(method: string, path: string, body?: unknown, more?: Record<string, string>): Promise<T> {
  const response = await fetch(path, {
    method,
    ...(method === 'GET' ? {} : { headers: { 'Content-Type': 'application/json', ...more } }),
    ...(body === undefined ? {} : { body: JSON.stringify(body) }),
  })
  if (!response.ok) throw new Refused((await response.json()) as Problem)
  const text = await response.text()
  return (text === '' ? undefined : JSON.parse(text)) as T
}

export const read = <T>(path: string) => call<T>('GET', `/api/v1${path}`)

export const signIn = (token: string) => call<undefined>('POST', '/api/v1/session', { token })
/** With what a node gave that is gone now. */
export const goOn = (ticket: string) => call<undefined>('POST', '/api/v1/session', { ticket })
export const signOut = () => call<undefined>('DELETE', '/api/v1/session')
