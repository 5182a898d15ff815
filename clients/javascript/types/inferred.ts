import { initGraphQLTada, type ResultOf } from 'gql.tada';
import type { introspection } from './graphql-env';

const graphql = initGraphQLTada<{
  introspection: introspection;
  scalars: { Date: string; DateTime: string; Decimal: string };
}>();

export const document = graphql(`
  query Bookings($status: BookingStatus!) {
    bookings(filter: { status: { eq: $status } }) {
      nodes {
        startsOn
        status
      }
    }
  }
`);

type Booking = NonNullable<ResultOf<typeof document>['bookings']>['nodes'][number];

export function confirmed(booking: Booking): boolean {
  return booking.status === 'CONFIRMED';
}
