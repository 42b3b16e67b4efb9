import { call } from '../api/call'
import type { Changed, IntentPlan, NodePlan, Plan, Started } from '../api/types'
import type { Wish } from './acting'

/** What a person adds to a wish before it is carried out. */
export type Choice = { to: string; name: string; acceptLoss: string; why: string; minutes: string; back: boolean; seen: string }
export const NOTHING_CHOSEN: Choice = { to: '', name: '', acceptLoss: '', why: '', minutes: '', back: true, seen: '' }

type Call = { method: 'POST' | 'PUT' | 'DELETE'; path: string; body?: Record<string, unknown> }

/** The one call that a wish is. */
export function callOf(wish: Wish, choice: Choice): Call {
  switch (wish.act) {
    case 'switchover':
      return { method: 'POST', path: `/workloads/${wish.workload}/switchover`, body: { ...(choice.to && { to: choice.to }) } }
    case 'failover':
      return { method: 'POST', path: `/workloads/${wish.workload}/failover`, body: { to: choice.to, ...(choice.acceptLoss && { accept_loss: choice.acceptLoss }) } }
    case 'mode': {
      const seconds = Math.round(Number(choice.minutes) * 60)
      return { method: 'PUT', path: `/workloads/${wish.workload}/mode`, body: { mode: wish.mode, ...(choice.why && { why: choice.why }), ...(seconds > 0 && { for_seconds: seconds }) } }
    }
    case 'rest': {
      const seconds = Math.round(Number(choice.minutes) * 60)
      const body = { nodes: [wish.node], back: choice.back, ...(choice.why && { why: choice.why }), ...(seconds > 0 && { for_seconds: seconds }), ...(choice.seen && { seen: choice.seen }) }
      return { method: 'POST', path: '/maintenance', body }
    }
    case 'restart':
      return { method: 'POST', path: `/workloads/${wish.workload}/restart`, body: { ...(choice.seen && { seen: choice.seen }) } }
    case 'keep': {
      const seconds = Math.round(Number(choice.minutes) * 60)
      const body = { name: choice.name, ...(choice.to && { node: choice.to }), ...(choice.why && { why: choice.why }), ...(seconds > 0 && { for_seconds: seconds }), ...(choice.seen && { seen: choice.seen }) }
      return { method: 'POST', path: `/workloads/${wish.workload}/safety-point`, body }
    }
    case 'go-back':
      return { method: 'POST', path: `/workloads/${wish.workload}/safety-point/go-back`, body: { ...(choice.seen && { seen: choice.seen }) } }
    case 'enrol':
      return { method: 'POST', path: `/nodes/${wish.node}/enrol`, body: { ...(choice.seen && { seen: choice.seen }) } }
    case 'end':
      return { method: 'POST', path: `/operations/${wish.operation}/end` }
    case 'approve':
      return { method: 'POST', path: `/operations/${wish.operation}/approve` }
    case 'power':
      return { method: 'POST', path: `/nodes/${wish.node}/power`, body: { what: wish.what } }
    case 'fence':
    case 'readmit':
      return { method: 'POST', path: `/nodes/${wish.node}/${wish.act}` }
    case 'acknowledge':
      return { method: 'PUT', path: `/findings/${encodeURIComponent(wish.finding)}/acknowledgement`, body: { note: choice.why } }
    case 'forget':
      return { method: 'DELETE', path: `/findings/${encodeURIComponent(wish.finding)}/acknowledgement` }
  }
}

/** The same on a command line; what a shell would take apart is quoted. */
export function commandOf(wish: Wish, choice: Choice): string {
  const quoted = (text: string) => (/^[\w.:-]+$/.test(text) ? text : `'${text.replaceAll("'", "'\\''")}'`)
  switch (wish.act) {
    case 'switchover':
      return `karst switchover ${wish.workload}${choice.to && ` --to ${choice.to}`}`
    case 'failover':
      return `karst failover ${wish.workload} --to ${choice.to || 'NODE'}${choice.acceptLoss && ` --accept-loss ${choice.acceptLoss}`}`
    case 'mode':
      return `karst mode ${wish.mode} ${wish.workload}${Number(choice.minutes) > 0 ? ` --for ${choice.minutes}m` : ''}${choice.why && ` --why ${quoted(choice.why)}`}`
    case 'rest':
      return `karst node maintenance ${wish.node}${choice.back ? ' --back' : ''}${Number(choice.minutes) > 0 ? ` --for ${choice.minutes}m` : ''}${choice.why && ` --why ${quoted(choice.why)}`}`
    case 'restart':
      return `karst workload restart ${wish.workload}`
    case 'keep':
      return `karst safety-point take ${wish.workload} ${choice.name || 'NAME'}${choice.to && ` --on ${choice.to}`}${Number(choice.minutes) > 0 ? ` --for ${choice.minutes}m` : ''}${choice.why && ` --why ${quoted(choice.why)}`}`
    case 'go-back':
      return `karst safety-point go-back ${wish.workload}`
    case 'end':
      return `karst operation end ${wish.operation}`
    case 'approve':
      return `karst operation approve ${wish.operation}`
    case 'power':
      return `karst node power ${wish.node} ${wish.what}`
    case 'acknowledge':
      return `karst finding acknowledge ${wish.finding}${choice.why && ` --note ${quoted(choice.why)}`}`
    case 'forget':
      return `karst finding forget ${wish.finding}`
    default:
      return `karst node ${wish.act} ${wish.node}`
  }
}

export function curlOf(wish: Wish, choice: Choice): string {
  const { method, path, body } = callOf(wish, choice)
  const data = body ? ` -H 'Content-Type: application/json' -d '${JSON.stringify(body).replaceAll("'", "'\\''")}'` : ''
  return `curl -X ${method} -H "Authorization: Bearer $(cat token)"${data} ${location.origin}/api/v1${path}`
}

export const isMove = (wish: Wish) => wish.act === 'switchover' || wish.act === 'failover'

export function planOf(wish: Wish, choice: Choice): Promise<Plan | NodePlan | IntentPlan> {
  const { method, path, body } = callOf(wish, choice)
  return call(method, `/api/v1${path}`, { ...body, plan_only: true })
}

export function carryOut(wish: Wish, choice: Choice): Promise<Started | Changed> {
  const { method, path, body } = callOf(wish, choice)
  return call(method, `/api/v1${path}`, body)
}
