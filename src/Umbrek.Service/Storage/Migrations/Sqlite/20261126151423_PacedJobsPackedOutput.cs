using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace Umbrek.Service.Storage.Migrations.Sqlite
{
    /// <inheritdoc />
    public partial class PacedJobsPackedOutput : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.AddColumn<bool>(
                name: "Held",
                table: "Runs",
                type: "INTEGER",
                nullable: false,
                defaultValue: false);

            migrationBuilder.AddColumn<bool>(
                name: "Packed",
                table: "RunOutput",
                type: "INTEGER",
                nullable: false,
                defaultValue: false);

            migrationBuilder.AddColumn<byte[]>(
                name: "AgainOf",
                table: "Jobs",
                type: "BLOB",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "Pace",
                table: "Jobs",
                type: "TEXT",
                nullable: true);
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropColumn(
                name: "Held",
                table: "Runs");

            migrationBuilder.DropColumn(
                name: "Packed",
                table: "RunOutput");

            migrationBuilder.DropColumn(
                name: "AgainOf",
                table: "Jobs");

            migrationBuilder.DropColumn(
                name: "Pace",
                table: "Jobs");
        }
    }
}
