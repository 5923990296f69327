/** What columns and tables are often called, and what that suggests. Names as the model has them. */
export const WORDS = {
  people:
    /^(?:user|member|person|people|account|employee|staff|profile|customer|client|student|resident|participant)s?$/i,
  mail: /e_?mail/i,
  secret: /passw|pwd|hash|salt|secret|token|apiKey|otp|iban|cardNumber|creditCard|cvv|ssn/i,
  owner:
    /^(?:owner|author|creator|(?:created|reported|submitted|requested|uploaded|added|posted|written)By|user|uploader|sender|requester|reporter|applicant|submitter|organizer|organiser|host)/i,
  concerned: /^(?:member|person|customer|client|account|holder|tenant|student|employee|patient|recipient|payer|buyer)/i,
  handler: /assign|agent|handler|reviewer|approver|responsible|technician|operator|worker|driver/i,
  editor: /^(?:updated|modified|changed|edited|deleted|removed|closed|approved)By/i,
  organisation: /organi[sz]ation|association|cooperative|household|tenant|company|workspace|club|school|firm|agency/i,
  share:
    /share|member|participant|watcher|follower|helper|collaborator|assignment|assignee|reader|viewer|editor|guest|invite/i,
  open: /^(?:is)?(?:public|published)$/i,
  openWord: /^(?:public|published)$/i,
  gone: /^(?:deleted|removed)(?:At|On)$/i,
  isGone: /^(?:is)?(?:deleted|removed)$/i,
  created: /^(?:created|added|inserted|registered|joined)(?:At|On)?$/i,
  updated: /^(?:updated|modified|changed|edited)(?:At|On)?$/i,
  held: /role|dut(?:y|ies)|admin|staff|moderator|superuser|manager|active|enabled|blocked|banned|locked|permission|right|scope|approved|accepted|granted|confirmed|reviewed|decision|verified|trusted|paid|balance|credit|discount|quota|tier|plan$|rank/i,
  /** What people may say of themselves: anything else in their record may be what gives them rights. */
  personal:
    /^(?:(?:first|last|full|family|given|middle|nick|display|screen|sur|preferred)_?)?name$|^(?:phone|tele?phone|mobile|cell|fax)(?:Number)?$|^(?:postal|home|street)?address(?:Line)?\d?$|^(?:street|houseNumber|city|town|zip|zipCode|postcode|postalCode|country|region)$|^(?:bio|about|biography|birthday|birthDate|dateOfBirth|pronouns|salutation|avatar|avatarUrl|picture|photo|website|homepage|locale|language|timezone|timeZone|theme)$/i,
  /** Where a record says so, it is nothing that whom it names may write. */
  money: /amount|price|total|balance|cents|salary|fee|grade|score/i,
  /** What becomes of a record: who works on it may say, and not who has made it. */
  state: /^(?:status|state|stage|phase)$/i,
  /** What a person knows a record by. */
  title: /^(?:title|label|subject|headline|(?:display|full|screen)_?name|name)$/i,
  role: /^(?:role|roles|duties|userRole|userType|memberType)$/i,
} as const
