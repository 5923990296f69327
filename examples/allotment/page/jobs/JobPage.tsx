import { Box, Button, Group, SimpleGrid, Stack, Text, Title } from '@mantine/core'
import { filter } from 'pachter/client'
import { Link, useNavigate, useParams } from 'react-router'
import { MemberField, PickMember } from '../parts/choices.js'
import { Do } from '../parts/Do.js'
import { ChoiceField, DayField, TextField } from '../parts/fields.js'
import { FormNotes } from '../parts/FormNotes.js'
import { Head } from '../parts/Head.js'
import { Failed, Listed, Waiting } from '../parts/States.js'
import { useChanges, useForm, useList, useMay, useRecord } from '../records.js'
import { date, JOB_STATES } from '../words.js'

export function JobPage() {
  const id = Number(useParams()['id'])
  const go = useNavigate()
  const { record, isLoading, error, retry } = useRecord('jobs', id, {
    access: true,
    with: { site: { fields: ['name'] }, reporter: { fields: ['name'] }, assignee: { fields: ['name'] } },
  })
  if (isLoading) return <Waiting />
  if (!record) return <Failed text={error?.message ?? 'It is not there.'} onRetry={retry} />
  return (
    <>
      <Head
        title={record.title ?? ''}
        lead={
          <>
            {record.site?.name} · {record.status && JOB_STATES[record.status]} · reported by {record.reporter?.name}
            {record.dueAt && ` · due ${date(record.dueAt)}`}
          </>
        }
      >
        <Do
          table="jobs"
          record={record}
          action="delete"
          confirm={{ title: 'Delete this job?' }}
          onDone={() => go('/jobs')}
        >
          Delete
        </Do>
      </Head>
      <Stack gap="xl">
        <JobForm job={record} />
        <Helpers jobId={id} mayAdd={record.$access.changeable.includes('assigneeId')} />
        <div>
          <Button component={Link} to="/jobs" variant="subtle" px={0}>
            ← All jobs
          </Button>
        </div>
      </Stack>
    </>
  )
}

type Job = NonNullable<Parameters<typeof useMay<'jobs'>>[1]>

function JobForm({ job }: { readonly job: Job }) {
  const { may, reason } = useMay('jobs', job, 'update')
  const form = useForm('jobs', { record: job })
  if (!may) {
    return (
      <div>
        <Text className="prose">{job.details}</Text>
        <Text c="dimmed" size="sm" mt="sm">
          {reason}
        </Text>
      </div>
    )
  }
  return (
    <form className="card" aria-label="Change the job" onSubmit={(event) => void form.save(event)}>
      <Stack p="md" maw="42rem">
        <FormNotes form={form} compared={['title', 'details', 'status']} />
        <TextField form={form} name="title" label="What" required />
        <TextField form={form} name="details" label="Details" lines={3} />
        <SimpleGrid cols={{ base: 1, xs: 3 }}>
          <ChoiceField
            form={form}
            name="status"
            label="How far it is"
            choices={Object.entries(JOB_STATES).map(([value, label]) => ({ value, label }))}
          />
          <MemberField form={form} name="assigneeId" label="Whose it is" empty="Nobody yet" />
          <DayField form={form} name="dueAt" label="Due" />
        </SimpleGrid>
        <div>
          <Button type="submit" loading={form.isSaving} disabled={!form.isChanged}>
            Save
          </Button>
        </div>
      </Stack>
    </form>
  )
}

/** Who helps; a warden of the site says so, and a helper can stop helping. */
function Helpers({ jobId, mayAdd }: { readonly jobId: number; readonly mayAdd: boolean }) {
  const list = useList(
    'jobHelpers',
    { access: true, filter: filter`jobId eq ${jobId}`, with: { member: { fields: ['name'] } } },
    { live: true },
  )
  const members = useList('members', { fields: ['name'], orderBy: 'name', limit: 200 }, { enabled: mayAdd })
  const { create } = useChanges('jobHelpers')
  const others = members.records.filter(({ id }) => !list.records.some(({ memberId }) => memberId === id))
  return (
    <section aria-labelledby="helpers">
      <Title order={2} id="helpers" mb="sm">
        Helpers
      </Title>
      <div className="card">
        <Listed state={list} empty="Nobody helps yet.">
          {(helpers) =>
            helpers.map((helper) => (
              <div key={helper.memberId} className="row">
                <Group justify="space-between">
                  {helper.member?.name}
                  <Do table="jobHelpers" record={helper} action="delete" confirm={false} refused="hide">
                    Helps no more
                  </Do>
                </Group>
              </div>
            ))
          }
        </Listed>
      </div>
      {mayAdd && (
        <Box mt="sm">
          <PickMember label="Ask somebody to help" among={others} onPick={(memberId) => create({ jobId, memberId })} />
        </Box>
      )}
    </section>
  )
}
