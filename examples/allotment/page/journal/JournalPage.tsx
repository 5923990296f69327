import { Badge, Button, Group, SegmentedControl, Text } from '@mantine/core'
import { useState } from 'react'
import { Link } from 'react-router'
import { Head } from '../parts/Head.js'
import { Listed } from '../parts/States.js'
import { useList, useSession } from '../records.js'
import { AUDIENCES, date } from '../words.js'

const SHOWN = { all: 'All', own: 'Mine', shared: 'Shared with me' } as const

/** The journal of all plots, as whoever looks may read it; it follows what others write. */
export function JournalPage() {
  const { signedIn, caller } = useSession()
  const [which, setWhich] = useState<keyof typeof SHOWN>('all')
  const list = useList(
    'entries',
    {
      access: true,
      orderBy: 'createdAt descending',
      limit: 200,
      with: { author: { fields: ['name'] }, plot: { fields: ['number'] } },
    },
    { live: true },
  )
  const shown = list.records.filter(({ authorId, $access }) => {
    if (which === 'own') return authorId === caller['id']
    return which === 'all' || $access.seenBy.includes('reader')
  })
  return (
    <>
      <Head
        title="Journal"
        lead={signedIn ? 'What grows, and what does not, as its writers share it.' : 'What our members tell everybody.'}
      >
        {signedIn && (
          <Button component={Link} to="/journal/new">
            Write an entry
          </Button>
        )}
      </Head>
      {signedIn && (
        <SegmentedControl
          mb="md"
          aria-label="Which entries"
          value={which}
          onChange={(value) => setWhich(value as keyof typeof SHOWN)}
          data={Object.entries(SHOWN).map(([value, label]) => ({ value, label }))}
        />
      )}
      <section className="card" aria-label="Entries">
        <Listed
          state={list}
          shown={shown}
          empty={which === 'own' ? 'You have not written anything yet.' : 'There is nothing to read yet.'}
        >
          {(entries) =>
            entries.map((entry) => (
              <Link key={entry.id} to={`/journal/${entry.id}`} className="row" data-testid={`entry-${entry.id}`}>
                <Group justify="space-between" wrap="nowrap" align="flex-start">
                  <Text fw={600}>{entry.title}</Text>
                  <Badge
                    variant="outline"
                    tt="none"
                    style={{ flexShrink: 0 }}
                    color={entry.audience === 'private' ? 'beet' : entry.audience === 'public' ? 'leaf' : 'gray'}
                  >
                    {entry.audience && AUDIENCES[entry.audience]}
                  </Badge>
                </Group>
                <Text size="sm" lineClamp={1}>
                  {entry.body}
                </Text>
                <Text size="sm" c="dimmed">
                  {entry.author?.name ?? 'A member'} · plot {entry.plot?.number} · {date(entry.createdAt)}
                  {entry.$access.seenBy.includes('reader') && ' · shared with you'}
                </Text>
              </Link>
            ))
          }
        </Listed>
      </section>
    </>
  )
}
