import { useQuery, useQueryClient } from '@tanstack/react-query'
import { App as AntApp, ConfigProvider } from 'antd'
import { lazy, Suspense, useEffect, useState } from 'react'
import { Navigate, NavLink, Link, Route, Routes, useNavigate } from 'react-router'
import { call, get, Problem, type Session, type Status } from './api/client'
import { useEvents } from './api/live'
import { Gathering } from './parts/gathering'
import { SearchBox } from './parts/search'
import { NewPassword, SignIn } from './pages/signin'
import { themeFor } from './theme'

const Today = lazy(() => import('./pages/today'))
const Plan = lazy(() => import('./pages/plan'))
const ScopePage = lazy(() => import('./pages/scope'))
const Leases = lazy(() => import('./pages/leases'))
const UnservedPage = lazy(() => import('./pages/unserved'))
const Conversations = lazy(() => import('./pages/conversations'))
const Explain = lazy(() => import('./pages/explain'))
const Wishes = lazy(() => import('./pages/wishes'))
const ListeningPage = lazy(() => import('./pages/listening'))
const Rules = lazy(() => import('./pages/rules'))
const Files = lazy(() => import('./pages/files'))
const Tree = lazy(() => import('./pages/tree'))
const FieldsPage = lazy(() => import('./pages/fields'))
const Codebooks = lazy(() => import('./pages/codebooks'))
const Links = lazy(() => import('./pages/links'))
const Trials = lazy(() => import('./pages/trials'))
const Stale = lazy(() => import('./pages/stale'))
const History = lazy(() => import('./pages/history'))
const CapacityPage = lazy(() => import('./pages/capacity'))
const CapacityScope = lazy(() => import('./pages/capacityscope'))
const Sizing = lazy(() => import('./pages/sizing'))
const Audit = lazy(() => import('./pages/audit'))
const GoneFindings = lazy(() => import('./pages/gone'))
const ComparedAudits = lazy(() => import('./pages/compared'))
const Reports = lazy(() => import('./pages/reports'))
const Sweep = lazy(() => import('./pages/sweep'))
const Alerts = lazy(() => import('./pages/alerts'))
const PairPage = lazy(() => import('./pages/pair'))
const Changes = lazy(() => import('./pages/changes'))
const PreparedPage = lazy(() => import('./pages/prepared'))
const Trail = lazy(() => import('./pages/trail'))

const pages = [
  { path: '/today', key: 't', name: 'Today', asks: 'Is all well?' },
  { path: '/plan', key: 'p', name: 'Plan', asks: 'What is defined?' },
  { path: '/leases', key: 'l', name: 'Leases', asks: 'Who has what?' },
  { path: '/unserved', key: 'u', name: 'Unserved', asks: 'Who goes without?' },
  { path: '/capacity', key: 'y', name: 'Capacity', asks: 'When does it run out?' },
  { path: '/pair', key: 'a', name: 'Pair', asks: 'Would it carry on?' },
  { path: '/audit', key: 'd', name: 'Audit', asks: 'What is wrong or odd?' },
  { path: '/changes', key: 'c', name: 'Changes', asks: 'What changed?' },
]

function useDark(): [boolean, () => void] {
  const [dark, setDark] = useState(
    () =>
      (localStorage.getItem('theme') ?? (matchMedia('(prefers-color-scheme: dark)').matches ? 'dark' : 'light')) ===
      'dark',
  )
  useEffect(() => {
    document.documentElement.dataset.theme = dark ? 'dark' : 'light'
    localStorage.setItem('theme', dark ? 'dark' : 'light')
  }, [dark])
  return [dark, () => setDark(!dark)]
}

export function App() {
  const [dark, toggle] = useDark()
  const session = useQuery({
    queryKey: ['session'],
    queryFn: () => get<Session>('/session'),
    retry: false,
    staleTime: Infinity,
  })
  let content = null
  if (session.isError) {
    const e = session.error
    content =
      e instanceof Problem && e.status === 401 ? (
        <SignIn />
      ) : (
        <div className="signin">
          <div className="box">{(e as Error).message}</div>
        </div>
      )
  } else if (session.data?.mustChange) content = <NewPassword />
  else if (session.data) content = <Frame account={session.data.account} dark={dark} toggle={toggle} />
  return (
    <ConfigProvider theme={themeFor(dark)}>
      <AntApp>{content}</AntApp>
    </ConfigProvider>
  )
}

/** Moves between pages on g and a letter, and opens the search on a slash. */
function useKeys(openSearch: () => void) {
  const go = useNavigate()
  useEffect(() => {
    let leader = 0
    const press = (e: KeyboardEvent) => {
      const t = e.target as HTMLElement
      if (e.ctrlKey || e.metaKey || e.altKey || /INPUT|TEXTAREA|SELECT/.test(t.tagName) || t.isContentEditable) return
      if (e.key === '/') {
        e.preventDefault()
        openSearch()
      } else if (e.key === 'g') leader = Date.now()
      else if (Date.now() - leader < 1200) {
        const page = pages.find((p) => p.key === e.key)
        if (page) go(page.path)
        leader = 0
      }
    }
    addEventListener('keydown', press)
    return () => removeEventListener('keydown', press)
  }, [go, openSearch])
}

function Frame({ account, dark, toggle }: { account: string; dark: boolean; toggle: () => void }) {
  const queries = useQueryClient()
  const live = useEvents()
  const [searching, setSearching] = useState(false)
  useKeys(() => setSearching(true))
  const status = useQuery({ queryKey: ['status'], queryFn: () => get<Status>('/status'), refetchInterval: 15000 })
  const signOut = async () => {
    await call('DELETE', '/session')
    queries.clear()
    queries.invalidateQueries({ queryKey: ['session'] })
    location.reload()
  }
  return (
    <>
      <div className="frame">
        <a className="skip" href="#content">
          Skip to the page
        </a>
        <aside className="post">
          <Link to="/today" className="brand">
            <img src="/mark.svg" alt="" />
            Yarn Post
          </Link>
          {status.data && (
            <div className="whose">
              <b>{status.data.name}</b>
              {status.data.pair && (
                <small>
                  {status.data.takeover
                    ? `${status.data.partner} stands by`
                    : `${status.data.partner} does not stand by`}
                </small>
              )}
            </div>
          )}
          <nav>
            {pages.map((p) => (
              <NavLink key={p.path} to={p.path}>
                {p.path === '/unserved' && !!status.data?.unserved && (
                  <span className="count">{status.data.unserved}</span>
                )}
                {p.path === '/pair' && !!status.data?.pair && !status.data.takeover && <span className="count">!</span>}
                <b>{p.name}</b>
                <small>{p.asks}</small>
              </NavLink>
            ))}
          </nav>
          <footer>
            <button onClick={() => setSearching(true)}>
              Search everything <kbd>/</kbd>
            </button>
            <button onClick={toggle}>{dark ? 'Light' : 'Dark'} theme</button>
            <button onClick={signOut}>Sign out {account}</button>
            <span>
              revision {status.data?.revision ?? '…'} · {live ? 'live' : 'not live'}
            </span>
          </footer>
        </aside>
        <main className="cloth" id="content" tabIndex={-1}>
          {status.data && !status.data.healthy && (
            <div className="alarm" role="alert">
              ▲ {status.data.problem}
            </div>
          )}
          {!live && (
            <div className="alarm" role="alert">
              ▲ The server is not answering; what you see may be old.
            </div>
          )}
          <Gathering />
          <Suspense fallback={null}>
            <Routes>
              <Route path="/today" element={<Today />} />
              <Route path="/plan" element={<Plan />} />
              <Route path="/plan/~tree" element={<Tree />} />
              <Route path="/plan/~files" element={<Files />} />
              <Route path="/plan/~rules" element={<Rules />} />
              <Route path="/plan/~fields" element={<FieldsPage />} />
              <Route path="/plan/~codebooks" element={<Codebooks />} />
              <Route path="/plan/~links" element={<Links />} />
              <Route path="/plan/~trials" element={<Trials />} />
              <Route path="/plan/:name" element={<ScopePage />} />
              <Route path="/leases" element={<Leases />} />
              <Route path="/leases/stale" element={<Stale />} />
              <Route path="/leases/history" element={<History />} />
              <Route path="/unserved" element={<UnservedPage />} />
              <Route path="/unserved/conversations" element={<Conversations />} />
              <Route path="/unserved/explain" element={<Explain />} />
              <Route path="/unserved/wishes" element={<Wishes />} />
              <Route path="/unserved/listening" element={<ListeningPage />} />
              <Route path="/capacity" element={<CapacityPage />} />
              <Route path="/capacity/~sizing" element={<Sizing />} />
              <Route path="/capacity/:name" element={<CapacityScope />} />
              <Route path="/audit" element={<Audit />} />
              <Route path="/audit/gone" element={<GoneFindings />} />
              <Route path="/audit/compared" element={<ComparedAudits />} />
              <Route path="/audit/reports" element={<Reports />} />
              <Route path="/audit/sweep" element={<Sweep />} />
              <Route path="/audit/alerts" element={<Alerts />} />
              <Route path="/pair" element={<PairPage />} />
              <Route path="/changes" element={<Changes />} />
              <Route path="/changes/prepared" element={<PreparedPage />} />
              <Route path="/changes/trail" element={<Trail />} />
              <Route path="*" element={<Navigate to="/today" replace />} />
            </Routes>
          </Suspense>
        </main>
      </div>
      <SearchBox open={searching} onClose={() => setSearching(false)} />
    </>
  )
}
