import { Badge, Button, Group, Text } from '@mantine/core'
import { Link } from 'react-router'
import { Head } from '../parts/Head.js'
import { Listed } from '../parts/States.js'
import { useList, useSession } from '../records.js'
import { date, JOB_STATES } from '../words.js'

const COLORS = { open: 'gray', busy: 'straw', done: 'leaf' } as const

/** The jobs that concern whoever looks: theirs to do, to help with, reported by them, or on a site they look after. */
export function JobsPage() {
  const { caller } = useSession()
  const list = useList(
    'jobs',
    {
      access: true,
      orderBy: 'dueAt',
      limit: 200,
      with: { site: { fields: ['name'] }, assignee: { fields: ['name'] } },
    },
    { live: true },
  )
  return (
    <>
      <Head title="Jobs" lead="What there is to do, as far as it concerns you.">
        <Button component={Link} to="/jobs/new">
          Report a job
        </Button>
      </Head>
      <section className="card" aria-label="Jobs">
        <Listed state={list} empty="There is nothing for you to do, and nothing you have reported.">
          {(jobs) =>
            jobs.map((job) => (
              <Link key={job.id} to={`/jobs/${job.id}`} className="row" data-testid={`job-${job.id}`}>
                <Group justify="space-between" wrap="nowrap" align="flex-start">
                  <Text fw={600}>{job.title}</Text>
                  {job.status && (
                    <Badge variant="light" tt="none" color={COLORS[job.status]} style={{ flexShrink: 0 }}>
                      {JOB_STATES[job.status]}
                    </Badge>
                  )}
                </Group>
                <Text size="sm" c="dimmed">
                  {job.site?.name} · {job.assigneeId === caller['id'] ? 'yours' : (job.assignee?.name ?? 'nobody yet')}
                  {job.dueAt && ` · due ${date(job.dueAt)}`}
                </Text>
              </Link>
            ))
          }
        </Listed>
      </section>
    </>
  )
}
