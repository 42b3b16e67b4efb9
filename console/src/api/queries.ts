import { useQuery } from '@tanstack/react-query'
import { useStatus } from './live'
import { read } from './call'
import type { Endpoint, HistoryReply, Report, Self, SpecReply, WrittenReply } from './types'

/** Who is signed in; an error where nobody is. */
export const useSelf = () => useQuery({ queryKey: ['self'], queryFn: () => read<Self>('/self'), retry: false, staleTime: 60_000 })

/** The one in force: read anew when another one is. */
export const useSpec = () => {
  const { revision } = useStatus()
  return useQuery({ queryKey: ['spec', revision], queryFn: () => read<SpecReply>('/spec'), staleTime: 60_000, placeholderData: (before) => before })
}

export const useEndpoints = (workload: string) => {
  const primary = useStatus().workloads.find((w) => w.workload === workload)?.primary
  return useQuery({ queryKey: ['endpoints', workload, primary], queryFn: () => read<Endpoint[]>(`/workloads/${workload}/endpoints`) })
}

/** What was written in the last hour, as the asked node saw it. */
export const useWritten = (workload: string, every = 5_000) =>
  useQuery({ queryKey: ['written', workload], queryFn: () => read<WrittenReply>(`/workloads/${workload}/written`), refetchInterval: every })

/** Read again whenever the log has grown. */
export const useReport = (id: number) => {
  const { applied } = useStatus()
  return useQuery({ queryKey: ['report', id, applied], queryFn: () => read<Report>(`/operations/${id}/report`), placeholderData: (before) => before })
}

/** The same as the service writes it up. */
export const useReportText = (id: number) => {
  const { applied } = useStatus()
  const path = `/api/v1/operations/${id}/report?format=markdown`
  return useQuery({ queryKey: ['report-text', id, applied], queryFn: async () => (await fetch(path)).text(), placeholderData: (before) => before })
}

export const useHistory = (query: string) => {
  const { applied } = useStatus()
  return useQuery({ queryKey: ['history', query, applied], queryFn: () => read<HistoryReply>(`/history?${query}`), placeholderData: (before) => before })
}

/** What each word on the screen means, by its name. */
export const useRunbook = () =>
  useQuery({
    queryKey: ['runbook'],
    staleTime: Infinity,
    queryFn: async () => {
      const text = await (await fetch('/runbook')).text()
      return text.split(/^### /m).slice(1).map((section) => {
        const [head = '', ...rest] = section.split('\n')
        return { name: head.replaceAll('`', '').trim(), text: rest.join('\n').split(/^## /m)[0]?.trim() ?? '' }
      })
    },
  })
