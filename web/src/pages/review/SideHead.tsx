/** The head of a table that puts a version beside another. */
import { PostHead } from '../../parts/Post'

export function SideHead({ what, number, other }: { what: string; number: number; other: number | null }) {
  return (
    <thead>
      <tr className="lab h-6">
        <th scope="col">{what}</th>
        <th scope="col" className="text-right">
          {number}
        </th>
        {other && (
          <>
            <th scope="col" className="text-right">
              {other}
            </th>
            <th scope="col" className="text-right">
              {number} − {other}
            </th>
            <th scope="col" className="pl-5">
              <PostHead />
            </th>
            <td />
          </>
        )}
      </tr>
    </thead>
  )
}
