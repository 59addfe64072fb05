import { useQuery } from '@tanstack/react-query'
import { Button, Table } from 'antd'
import { useState } from 'react'
import { Link } from 'react-router'
import { api, get, type Agreement, type Edit, type Listening } from '../api/client'
import { Empty, Failure, Mono, paged, plural, StatusMark, When } from '../parts/bits'
import { Confirm } from '../parts/preview'
import { SubNav } from '../parts/subnav'
import { agreeingColumns, agreementColumns } from '../columns/listening'

/** What another server gives, beside what this one would give. */
export default function ListeningPage() {
  const q = useQuery({ queryKey: ['listening'], queryFn: () => get<Listening>('/listening'), refetchInterval: 5000 })
  const [edits, setEdits] = useState<Edit[] | null>(null)
  const l = q.data
  const live = (link: string) => setEdits([{ op: 'edit', kind: 'link', name: link, link: { listening: false } }])
  return (
    <>
      <div className="head">
        <div>
          <h1>Listening</h1>
          <span className="quiet">
            On a link that is listened to nothing is sent; what would have been answered is compared with what clients
            took
          </span>
        </div>
      </div>
      <SubNav of="unserved" />
      <Failure error={q.error} />
      {l && (
        <div className="grid">
          <div className="grid two">
            <section className="panel">
              <h2>Links that are listened to</h2>
              {l.whole && <div className="note">The whole server listens and sends nothing.</div>}
              {l.links.length === 0 && !l.whole && (
                <Empty>
                  None: every link is answered. <Link to="/plan/~links">Links</Link> can be set to listen beside a
                  server that is to be replaced.
                </Empty>
              )}
              {l.links.map((name) => (
                <div key={name} className="filters" style={{ margin: '0 0 6px' }}>
                  <StatusMark status="held" word={name} />
                  <Button size="small" type="primary" onClick={() => live(name)}>
                    Go live
                  </Button>
                </div>
              ))}
              {l.learned > 0 && (
                <p style={{ margin: '6px 0 0' }}>
                  {plural(l.learned, 'address', 'addresses')} learned; they are kept for their clients.{' '}
                  <a href={api + '/leases?status=active&limit=10000'} target="_blank" rel="noreferrer">
                    Export the bindings
                  </a>
                </p>
              )}
            </section>
            <section className="panel">
              <h2>Other servers heard</h2>
              {l.otherServers.length === 0 ? (
                <Empty>None in the last day.</Empty>
              ) : (
                l.otherServers.map((r) => (
                  <div key={r.link + r.server} style={{ marginBottom: 4 }}>
                    <Mono>{r.server}</Mono> on link {r.link}: {r.how}{' '}
                    <span className="quiet">
                      {r.count}×, last <When at={r.last} />
                    </span>
                  </div>
                ))
              )}
            </section>
          </div>
          {l.scopes.length > 0 && (
            <section className="panel flush">
              <h2>Agreement by scope</h2>
              <Table
                size="small"
                rowKey={(s) => s.scope + s.link}
                dataSource={l.scopes}
                pagination={false}
                columns={agreeingColumns()}
              />
            </section>
          )}
          <section className="panel flush">
            <h2>Client by client, disagreements first</h2>
            <Table<Agreement>
              size="small"
              rowKey={(a) => a.hardware + a.took}
              dataSource={l.clients}
              className="dense"
              pagination={paged}
              locale={{ emptyText: <Empty>No client was seen to take an address from another server.</Empty> }}
              columns={agreementColumns()}
            />
          </section>
        </div>
      )}
      <Confirm title="Go live" wish={edits} onClose={() => setEdits(null)} />
    </>
  )
}
