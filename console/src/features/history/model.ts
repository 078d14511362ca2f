export interface Past {
  who: string;
  what: string;
  subject: string;
  from: string;
  to: string;
}

/** What of a past is said, as the service is asked: days are the viewer's. */
export function pastQuery(p: Past) {
  const day = (d: string, plus: number) => {
    const at = new Date(`${d}T00:00:00`);
    at.setDate(at.getDate() + plus);
    return at.toISOString();
  };
  return {
    ...(p.who ? { who: p.who } : {}),
    ...(p.what ? { what: p.what } : {}),
    ...(p.subject ? { subject: p.subject } : {}),
    ...(p.from ? { from: day(p.from, 0) } : {}),
    ...(p.to ? { to: day(p.to, 1) } : {}),
  };
}
