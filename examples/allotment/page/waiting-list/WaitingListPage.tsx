import { Badge, Button, Group, Stack, Text, Title } from '@mantine/core'
import { Do } from '../parts/Do.js'
import { SiteField } from '../parts/choices.js'
import { TextField } from '../parts/fields.js'
import { FormNotes } from '../parts/FormNotes.js'
import { Head } from '../parts/Head.js'
import { Listed } from '../parts/States.js'
import { useForm, useList, useSession } from '../records.js'
import { APPLICATION_STATES, date } from '../words.js'

const COLORS = { waiting: 'gray', approved: 'leaf', declined: 'beet' } as const

/** Who would like a plot. Before it is decided, only the applicant and the secretary know. */
export function WaitingListPage() {
  const { caller, roles } = useSession()
  const list = useList(
    'applications',
    {
      access: true,
      orderBy: 'appliedAt descending',
      limit: 200,
      with: { applicant: { fields: ['name'] }, site: { fields: ['name'] } },
    },
    { live: true },
  )
  return (
    <>
      <Head
        title="Waiting list"
        lead={
          roles.includes('secretary')
            ? 'Who would like a plot, and what was decided.'
            : 'Your own applications, and those that were granted.'
        }
      />
      <Stack gap="xl">
        <section className="card" aria-label="Applications">
          <Listed state={list} empty="Nobody waits for a plot.">
            {(applications) =>
              applications.map((application) => (
                <div key={application.id} className="row" data-testid={`application-${application.id}`}>
                  <Group justify="space-between" align="flex-start">
                    <div>
                      <Text fw={600}>
                        {application.applicantId === caller['id'] ? 'You' : application.applicant?.name} ·{' '}
                        {application.site?.name}
                      </Text>
                      {application.appliedAt && (
                        <Text size="sm" c="dimmed">
                          since {date(application.appliedAt)}
                        </Text>
                      )}
                    </div>
                    <Group gap="xs">
                      {application.status && (
                        <Badge variant="light" tt="none" color={COLORS[application.status]}>
                          {APPLICATION_STATES[application.status]}
                        </Badge>
                      )}
                      {roles.includes('secretary') && (
                        <>
                          <Do table="applications" record={application} action="approve">
                            Approve
                          </Do>
                          <Do table="applications" record={application} action="decline">
                            Decline
                          </Do>
                        </>
                      )}
                      {application.applicantId === caller['id'] && (
                        <Do
                          table="applications"
                          record={application}
                          action="delete"
                          confirm={{
                            title: 'Withdraw your application?',
                            text: 'You can apply again later.',
                            yes: 'Withdraw',
                          }}
                        >
                          Withdraw
                        </Do>
                      )}
                    </Group>
                  </Group>
                  {application.motivation && (
                    <Text size="sm" mt={4} className="prose">
                      {application.motivation}
                    </Text>
                  )}
                </div>
              ))
            }
          </Listed>
        </section>
        <Apply />
      </Stack>
    </>
  )
}

function Apply() {
  const form = useForm('applications')
  return (
    <section aria-labelledby="apply">
      <Title order={2} id="apply" mb="sm">
        Apply for a plot
      </Title>
      <form onSubmit={(event) => void form.save(event)}>
        <Stack maw="32rem">
          <FormNotes form={form} />
          <SiteField form={form} name="siteId" label="Where" required />
          <TextField form={form} name="motivation" label="Why you would like one" lines={3} required />
          <div>
            <Button type="submit" loading={form.isSaving} disabled={!form.mayChange('motivation')}>
              Apply
            </Button>
          </div>
        </Stack>
      </form>
    </section>
  )
}
