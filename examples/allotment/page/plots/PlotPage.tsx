import { Button, Stack, Text, Title } from '@mantine/core'
import { filter } from 'pachter/client'
import { Link, useParams } from 'react-router'
import { MemberField } from '../parts/choices.js'
import { TextField } from '../parts/fields.js'
import { FormNotes } from '../parts/FormNotes.js'
import { Head } from '../parts/Head.js'
import { Failed, Listed, Waiting } from '../parts/States.js'
import { useForm, useList, useMay, useRecord, useSession } from '../records.js'
import { date, number } from '../words.js'

/** One plot: what grows there, for everybody; notes, for those it concerns. */
export function PlotPage() {
  const id = Number(useParams()['id'])
  const { record, isLoading, error, retry } = useRecord('plots', id, {
    access: true,
    with: { site: { fields: ['name'] }, holder: { fields: ['name'] } },
  })
  const { signedIn } = useSession()
  const entries = useList(
    'entries',
    { filter: filter`plotId eq ${id}`, orderBy: 'createdAt descending', limit: 50 },
    { live: true },
  )
  if (isLoading) return <Waiting />
  if (!record) return <Failed text={error?.message ?? 'It is not there.'} onRetry={retry} />
  const hidden = record.$access.hidden
  return (
    <>
      <Head title={`Plot ${record.number}`} lead={`${record.site?.name} · ${number(record.areaM2)} m²`}>
        {signedIn && (
          <Button component={Link} to={`/journal/new?plot=${id}`} variant="default">
            Write about it
          </Button>
        )}
      </Head>
      <Stack gap="xl">
        <dl className="facts">
          <Fact name="Grows here" value={record.crop ?? 'nothing we know of'} />
          {!hidden.includes('holderId') && <Fact name="Held by" value={record.holder?.name ?? 'nobody'} />}
          {!hidden.includes('notes') && <Fact name="Notes" value={record.notes ?? 'none'} />}
        </dl>
        <PlotForm plot={record} />
        <section aria-labelledby="of-plot">
          <Title order={2} id="of-plot" mb="sm">
            From the journal
          </Title>
          <div className="card">
            <Listed state={entries} empty="Nothing was written about it that you can read.">
              {(all) =>
                all.map((entry) => (
                  <Link key={entry.id} to={`/journal/${entry.id}`} className="row">
                    <Text fw={600}>{entry.title}</Text>
                    <Text size="sm" c="dimmed">
                      {date(entry.createdAt)}
                    </Text>
                  </Link>
                ))
              }
            </Listed>
          </div>
        </section>
      </Stack>
    </>
  )
}

function Fact({ name, value }: { readonly name: string; readonly value: string }) {
  return (
    <div>
      <Text component="dt" size="sm" c="dimmed">
        {name}
      </Text>
      <Text component="dd" m={0}>
        {value}
      </Text>
    </div>
  )
}

type Plot = NonNullable<Parameters<typeof useMay<'plots'>>[1]>

/** What its holder or its warden may change of a plot; who is neither sees none of it. */
export function PlotForm({ plot }: { readonly plot: Plot }) {
  const { may } = useMay('plots', plot, 'update')
  const form = useForm('plots', { record: plot })
  if (!may) return null
  const changes = (name: 'crop' | 'notes' | 'areaM2' | 'holderId') => form.mayChange(name)
  return (
    <form className="card" onSubmit={(event) => void form.save(event)} aria-label={`Change plot ${plot.number}`}>
      <Stack p="md" maw="32rem">
        <FormNotes form={form} compared={['crop', 'notes']} />
        {changes('crop') && <TextField form={form} name="crop" label="What grows here" />}
        {changes('notes') && <TextField form={form} name="notes" label="Notes" lines={2} />}
        {changes('areaM2') && <TextField form={form} name="areaM2" label="Area, in square metres" />}
        {changes('holderId') && <MemberField form={form} name="holderId" label="Held by" empty="Nobody" />}
        <div>
          <Button type="submit" loading={form.isSaving} disabled={!form.isChanged}>
            Save
          </Button>
        </div>
      </Stack>
    </form>
  )
}
