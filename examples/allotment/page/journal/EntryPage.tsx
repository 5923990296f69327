import { Button, Stack, Text } from '@mantine/core'
import { filter } from 'pachter/client'
import { Link, useNavigate, useParams } from 'react-router'
import { Do } from '../parts/Do.js'
import { Head } from '../parts/Head.js'
import { Failed, Waiting } from '../parts/States.js'
import { useList } from '../records.js'
import { AUDIENCES, date } from '../words.js'
import { NothingHere } from '../layout/Refused.js'
import { Remarks } from './Remarks.js'
import { Sharing } from './Sharing.js'

/** One entry, with whom it is shared, and what others say of it; it goes when it is not shared any more. */
export function EntryPage() {
  const id = Number(useParams()['id'])
  const go = useNavigate()
  const list = useList(
    'entries',
    {
      access: true,
      filter: filter`id eq ${id}`,
      with: { author: { fields: ['name'] }, plot: { fields: ['number'] } },
    },
    { live: true },
  )
  const [entry] = list.records
  if (list.error) return <Failed text={list.error.message} onRetry={list.retry} />
  if (list.isLoading) return <Waiting />
  if (!entry) return <NothingHere />
  return (
    <>
      <Head
        title={entry.title ?? ''}
        lead={
          <>
            {entry.author?.name ?? 'A member'} · plot <Link to={`/plots/${entry.plotId}`}>{entry.plot?.number}</Link> ·{' '}
            {date(entry.createdAt)}
            {entry.updatedAt && `, changed ${date(entry.updatedAt)}`}
            {' · '}
            {entry.audience && AUDIENCES[entry.audience].toLowerCase()}
          </>
        }
      >
        <Do table="entries" record={entry} action="update" onAct={() => go(`/journal/${id}/edit`)}>
          Edit
        </Do>
        <Do
          table="entries"
          record={entry}
          action="delete"
          confirm={{ title: 'Delete this entry?', text: 'Its remarks go with it, and it cannot be brought back.' }}
          onDone={() => go('/')}
        >
          Delete
        </Do>
      </Head>
      <Stack gap="xl">
        <Text className="prose">{entry.body}</Text>
        {entry.$access.ties.includes('author') && <Sharing entryId={id} />}
        <Remarks entryId={id} />
        <div>
          <Button component={Link} to="/" variant="subtle" px={0}>
            ← All of the journal
          </Button>
        </div>
      </Stack>
    </>
  )
}
