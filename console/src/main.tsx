import './theme/karst.scss'
import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { createRoot } from 'react-dom/client'
import { BrowserRouter } from 'react-router'
import { App } from './App'
import { goOn } from './api/call'
import { applyTheme } from './theme/theme'

applyTheme()

/** From a node that is gone: it is used before anything is shown, and leaves the address at once. */
async function takeTicket() {
  const ticket = /^#ticket=(.+)$/.exec(location.hash)?.[1]
  if (!ticket) return
  history.replaceState(null, '', location.pathname + location.search)
  await goOn(ticket).catch(() => undefined)
}

const queries = new QueryClient({ defaultOptions: { queries: { retry: 1, refetchOnWindowFocus: false } } })
const root = document.getElementById('root')
void takeTicket().finally(() => {
  if (!root) return
  createRoot(root).render(
    <QueryClientProvider client={queries}>
      <BrowserRouter>
        <App />
      </BrowserRouter>
    </QueryClientProvider>,
  )
})
