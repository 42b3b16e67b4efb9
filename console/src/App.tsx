import { useQueryClient } from '@tanstack/react-query'
import { useCallback } from 'react'
import { Route, Routes } from 'react-router'
import { Acting } from './act/Acting'
import { useSelf } from './api/queries'
import { Refused } from './api/types'
import { Frame } from './frame/Frame'
import { HistoryPage } from './pages/HistoryPage'
import { NodePage } from './pages/NodePage'
import { NodesPage } from './pages/NodesPage'
import { Now } from './pages/Now'
import { OperationPage } from './pages/OperationPage'
import { OperationsPage } from './pages/OperationsPage'
import { QuorumPage } from './pages/QuorumPage'
import { RunbookPage } from './pages/RunbookPage'
import { SignIn } from './pages/SignIn'
import { SpecPage } from './pages/SpecPage'
import { WorkloadPage } from './pages/WorkloadPage'

export function App() {
  const self = useSelf()
  const queries = useQueryClient()
  const signedOut = useCallback(() => void queries.resetQueries({ queryKey: ['self'] }), [queries])
  if (self.isPending) return null
  if (!self.data) return <SignIn why={self.error instanceof Refused ? null : 'This node does not answer.'} onDone={signedOut} />
  return (
    <Frame onSignedOut={signedOut}>
      <Acting self={self.data}>
        <Routes>
          <Route path="/" element={<Now />} />
          <Route path="/workloads/:name" element={<WorkloadPage />} />
          <Route path="/operations" element={<OperationsPage />} />
          <Route path="/operations/:id" element={<OperationPage />} />
          <Route path="/nodes" element={<NodesPage />} />
          <Route path="/nodes/:name" element={<NodePage />} />
          <Route path="/quorum" element={<QuorumPage />} />
          <Route path="/spec" element={<SpecPage />} />
          <Route path="/history" element={<HistoryPage />} />
          <Route path="/runbook/:name" element={<RunbookPage />} />
          <Route path="*" element={<p className="mt-4">There is no such page. The links above lead on.</p>} />
        </Routes>
      </Acting>
    </Frame>
  )
}
