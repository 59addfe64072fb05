import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { createRoot } from 'react-dom/client'
import { BrowserRouter } from 'react-router'
import { at, Problem } from './api/client'
import { App } from './app'
import './styles.css'

const queries = new QueryClient({
  defaultOptions: {
    // What was read keeps its identity, by which the revision it was read at is known.
    queries: {
      staleTime: 2000,
      structuralSharing: false,
      retry: (n, e) => n < 2 && !(e instanceof Problem && e.status >= 400 && e.status < 500),
    },
  },
})

createRoot(document.getElementById('root')!).render(
  <QueryClientProvider client={queries}>
    <BrowserRouter basename={at}>
      <App />
    </BrowserRouter>
  </QueryClientProvider>,
)
