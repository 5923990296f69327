import { createBrowserRouter, data } from 'react-router'
import { filter } from 'pachter/client'
import { EntryEditPage } from './journal/EntryEditPage.js'
import { EntryPage } from './journal/EntryPage.js'
import { JournalPage } from './journal/JournalPage.js'
import { NewEntryPage } from './journal/NewEntryPage.js'
import { JobPage } from './jobs/JobPage.js'
import { JobsPage } from './jobs/JobsPage.js'
import { NewJobPage } from './jobs/NewJobPage.js'
import { Shell } from './layout/Shell.js'
import { NothingHere, Refused } from './layout/Refused.js'
import { Waiting } from './parts/States.js'
import { MembersPage } from './members/MembersPage.js'
import { ProfilePage } from './members/ProfilePage.js'
import { OfficePage } from './office/OfficePage.js'
import { WardensPage } from './office/WardensPage.js'
import { PlotPage } from './plots/PlotPage.js'
import { PlotsPage } from './plots/PlotsPage.js'
import { client, guard } from './records.js'
import { RentsPage } from './rents/RentsPage.js'
import { WaitingListPage } from './waiting-list/WaitingListPage.js'

const { signedIn, role, may } = guard

/** Wardens are those whom a site has as such: a row of a table, and no role. */
const warden: ReturnType<typeof signedIn> = async (visit) => {
  await signedIn()(visit)
  const { caller } = await client.session()
  const { records } = await client.list('siteWardens', {
    filter: filter`memberId eq ${caller['id'] as number}`,
    limit: 1,
  })
  if (records.length === 0) throw data({ detail: 'This page is for the wardens of a site.' }, { status: 403 })
  return null
}

export const routes = createBrowserRouter([
  {
    Component: Shell,
    hydrateFallbackElement: <Waiting />,
    children: [
      {
        ErrorBoundary: Refused,
        children: [
          { index: true, Component: JournalPage },
          { path: 'journal/new', loader: signedIn(), Component: NewEntryPage },
          { path: 'journal/:id', loader: may('get', 'entries', 'id'), Component: EntryPage },
          { path: 'journal/:id/edit', loader: may('update', 'entries', 'id'), Component: EntryEditPage },
          { path: 'plots', Component: PlotsPage },
          { path: 'plots/:id', loader: may('get', 'plots', 'id'), Component: PlotPage },
          { path: 'jobs', loader: signedIn(), Component: JobsPage },
          { path: 'jobs/new', loader: signedIn(), Component: NewJobPage },
          { path: 'jobs/:id', loader: may('get', 'jobs', 'id'), Component: JobPage },
          { path: 'rents', loader: signedIn(), Component: RentsPage },
          { path: 'waiting-list', loader: signedIn(), Component: WaitingListPage },
          { path: 'members', loader: signedIn(), Component: MembersPage },
          { path: 'profile', loader: signedIn(), Component: ProfilePage },
          { path: 'wardens', loader: warden, Component: WardensPage },
          { path: 'office', loader: role('secretary'), Component: OfficePage },
          { path: '*', Component: NothingHere },
        ],
      },
    ],
  },
])
